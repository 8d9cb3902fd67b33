"""The status of a workspace's browsers: configured, installed, and able to open."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec
from msgspec.structs import replace

from wolfbane.browsers.engines.discovery import (
    DISPLAY_PROGRAM,
    installed,
    needs_screen,
    unlike,
    version,
)
from wolfbane.browsers.failures import CannotOpen
from wolfbane.workspace.settings import Workspace
from wolfbane.workspace.vocabulary import ENGINES


class BrowserStatus(msgspec.Struct, frozen=True):
    """The status of one browser. ``problem`` is the reason why it cannot be used, and the fix."""

    name: str
    engine: str
    version: str = ""
    program: str = ""
    driver: str = ""
    window: str = ""
    suites: tuple[str, ...] = ()
    problem: str = ""
    opened: bool = False


def browsers_of(workspace: Workspace) -> list[str]:
    """All browsers by name: those with a table, those that suites list, and the engines."""
    listed = [name for suite in workspace.suites for name in suite.browsers]
    return list(dict.fromkeys([*listed, *workspace.settings.browser, *ENGINES]))


def look_for(
    workspace: Workspace, names: Iterable[str], *, versions: bool = True
) -> list[BrowserStatus]:
    """Find browsers and their drivers, without starting them; reading versions takes some time."""
    return [_one(workspace, name, versions=versions) for name in names]


def _one(workspace: Workspace, name: str, *, versions: bool) -> BrowserStatus:
    browser = workspace.browser(name)
    suites = tuple(suite.name for suite in workspace.suites if name in suite.browsers)
    status = BrowserStatus(name, browser.engine, window=browser.window, suites=suites)
    try:
        here = installed(name, browser)
    except CannotOpen as error:
        return replace(status, problem=str(error))
    version_text = ""
    if here.binary and versions:
        version_text = version(here.binary)
    driver = browser.url or " ".join(here.driver)
    status = replace(status, version=version_text, program=here.binary, driver=driver)
    if needs_screen(browser):
        message = f"there is no screen and no {DISPLAY_PROGRAM}; install it (Debian: xvfb)"
        return replace(status, problem=f"browser '{name}': {message}")
    return replace(status, problem=unlike(name, browser, here) if versions else "")
