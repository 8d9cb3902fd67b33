"""Finds browsers and drivers on this machine, with their versions."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from pathlib import Path

from wolfbane.basis.inspection import may_start, neutral_folder
from wolfbane.browsers.engines.contract import Installed
from wolfbane.browsers.engines.registry import find_engine
from wolfbane.browsers.failures import CannotOpen
from wolfbane.workspace.settings import Browser
from wolfbane.workspace.vocabulary import OTHER_ENGINE

DISPLAY_PROGRAM = "Xvfb"
_VERSION = re.compile(r"\d+(?:\.\d+)+\w*")


def has_screen() -> bool:
    """Whether this machine has a screen for windows."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def needs_screen(browser: Browser) -> bool:
    """Whether a virtual screen is needed, but no program for it is installed."""
    wants = find_engine(browser.engine).needs_screen and not browser.url
    return wants and not has_screen() and shutil.which(DISPLAY_PROGRAM) is None


def installed(name: str, browser: Browser) -> Installed:
    """The programs that start a browser. Raises CannotOpen with the packages to install."""
    if browser.url:
        return Installed()
    driver = _driver(name, browser)
    if browser.engine == OTHER_ENGINE:
        return Installed(browser.binary, driver)
    given = (browser.binary,) if browser.binary else find_engine(browser.engine).binaries
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
    usual = find_engine(browser.engine).drivers
    if not usual:
        return ()
    program = _first(usual)
    if not program:
        raise CannotOpen(_absent(name, browser.engine, usual, key="driver"))
    return (program,)


def _absent(name: str, engine: str, wanted: tuple[str, ...], key: str) -> str:
    names = " or ".join(w for w in wanted if "*" not in w)
    how = "set"
    if install := find_engine(engine).install:
        how = f"{install}, or set"
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


def unlike(name: str, browser: Browser, here: Installed) -> str:
    """The warning about a driver with another version than its browser; empty if they match."""
    engine = find_engine(browser.engine)
    if not (engine.same_version and here.driver and here.binary):
        return ""
    if Path(here.driver[0]).name not in engine.drivers:  # a program that starts it
        return ""
    own, driver = version(here.binary), version(here.driver[0])
    if not own or not driver or own.split(".")[0] == driver.split(".")[0]:
        return ""
    message = (
        f"browser '{name}': the driver has version {driver}, but the browser has version {own}"
    )
    return f"{message} {own}; install both from the same source"
