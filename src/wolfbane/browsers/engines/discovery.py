"""Finds browsers and drivers on this machine, with their versions."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from pathlib import Path

import msgspec

from wolfbane.basis.inspection import may_start, neutral_folder
from wolfbane.browsers.failures import CannotOpen
from wolfbane.workspace.settings import Browser

_BINARIES = {
    "chromium": ("chromium", "chromium-browser", "chrome"),
    "firefox": ("firefox", "firefox-esr"),
    "webkit": (
        "MiniBrowser",
        "/usr/lib/*/webkit2gtk-4.*/MiniBrowser",
        "/usr/libexec/webkit2gtk-4.*/MiniBrowser",
    ),
}
_DRIVERS = {"chromium": ("chromedriver",), "webkit": ("WebKitWebDriver",)}
_INSTALL = {
    "chromium": "install chromium and its driver (Debian: chromium, chromium-driver)",
    "firefox": "install Firefox (Debian: firefox-esr)",
    "webkit": "install WebKit's driver (Debian: webkit2gtk-driver)",
}
DISPLAY_PROGRAM = "Xvfb"
_VERSION = re.compile(r"\d+(?:\.\d+)+\w*")


def has_screen() -> bool:
    """Whether this machine has a screen for windows."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def needs_screen(browser: Browser) -> bool:
    """Whether a virtual screen is needed, but no program for it is installed."""
    wants = browser.engine == "webkit" and not browser.url
    return wants and not has_screen() and shutil.which(DISPLAY_PROGRAM) is None


class Installed(msgspec.Struct, frozen=True):
    """The programs of a browser: ``driver`` is its command, empty if it needs none."""

    binary: str = ""
    driver: tuple[str, ...] = ()


def installed(name: str, browser: Browser) -> Installed:
    """The programs that start a browser. Raises CannotOpen with the packages to install."""
    if browser.url:
        return Installed()
    driver = _driver(name, browser)
    if browser.engine == "other":
        return Installed(browser.binary, driver)
    given = (browser.binary,) if browser.binary else _BINARIES[browser.engine]
    binary = _first(given)
    if not binary:
        raise CannotOpen(_absent(name, browser.engine, given, key="binary"))
    return Installed(binary, driver)


def _driver(name: str, browser: Browser) -> tuple[str, ...]:
    given = browser.driver
    command = (given,) if isinstance(given, str) else tuple(given)
    if command and command[0]:
        if not _first(command[:1]):
            raise CannotOpen(_absent(name, browser.engine, command[:1], key="driver"))
        return (_first(command[:1]), *command[1:])
    if browser.engine not in _DRIVERS:
        return ()
    program = _first(_DRIVERS[browser.engine])
    if not program:
        raise CannotOpen(_absent(name, browser.engine, _DRIVERS[browser.engine], key="driver"))
    return (program,)


def _absent(name: str, engine: str, wanted: tuple[str, ...], key: str) -> str:
    names = " or ".join(w for w in wanted if "*" not in w)
    how = "set"
    if engine in _INSTALL:
        how = f"{_INSTALL[engine]}, or set"
    return f"browser '{name}': {names} not found; {how} '{key}' in [browser.{name}]"


def _first(names: tuple[str, ...]) -> str:
    for name in names:
        if "*" in name:
            anywhere = sorted(Path("/").glob(name.lstrip("/")))
        else:
            anywhere = []
        if program := anywhere[-1] if anywhere else shutil.which(name):
            return str(program)
    return ""


def version(program: str) -> str:
    """The version that a program reports; empty if it reports none, or must not start."""
    if not may_start(program):
        return ""
    try:
        answer = subprocess.run(
            [program, "--version"],
            cwd=neutral_folder(),
            capture_output=True,
            text=True,
            timeout=20,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired):
        return ""
    match = _VERSION.search(answer.stdout)
    if match:
        return match[0]
    return ""


def unlike(name: str, here: Installed) -> str:
    """The warning about a driver with another version than its browser; empty if they match."""
    if not (here.driver and here.binary) or Path(here.driver[0]).name != "chromedriver":
        return ""
    browser, driver = version(here.binary), version(here.driver[0])
    if not browser or not driver or browser.split(".")[0] == driver.split(".")[0]:
        return ""
    message = (
        f"browser '{name}': the driver has version {driver}, but the browser has version {browser}"
    )
    return f"{message}; install both from the same source"
