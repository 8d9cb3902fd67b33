"""Which browsers a workspace has, which of them are here, and whether they open."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from dataclasses import dataclass, replace

from wolfbane.browsers.failures import CannotOpen, WebDriverError
from wolfbane.browsers.finding import (
    DISPLAY_PROGRAM,
    installed,
    needs_screen,
    unlike,
    version,
)
from wolfbane.execution.processes import Family
from wolfbane.workspace.settings import Workspace
from wolfbane.workspace.vocabulary import ENGINES


@dataclass(frozen=True)
class Found:
    """One browser: ``problem`` is why it cannot be used, and what to do."""

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
    """Every browser by name: those with a table, those that suites list, and the engines."""
    listed = [name for suite in workspace.suites for name in suite.browsers]
    return list(dict.fromkeys([*listed, *workspace.settings.browser, *ENGINES]))


def look_for(workspace: Workspace, names: Iterable[str], *, versions: bool = True) -> list[Found]:
    """Look for browsers and their drivers, and start none; asking versions takes a while."""
    return [_one(workspace, name, versions=versions) for name in names]


def _one(workspace: Workspace, name: str, *, versions: bool) -> Found:
    browser = workspace.browser(name)
    suites = tuple(suite.name for suite in workspace.suites if name in suite.browsers)
    found = Found(name, browser.engine, window=browser.window, suites=suites)
    try:
        here = installed(name, browser)
    except CannotOpen as error:
        return replace(found, problem=str(error))
    told = version(here.binary) if here.binary and versions else ""
    driver = browser.url or " ".join(here.driver)
    found = replace(found, version=told, program=here.binary, driver=driver)
    if needs_screen(browser):
        words = f"there is no screen and no {DISPLAY_PROGRAM}; install it (Debian: xvfb)"
        return replace(found, problem=f"browser '{name}': {words}")
    return replace(found, problem=unlike(name, here) if versions else "")


def open_each(workspace: Workspace, found: Iterable[Found]) -> list[Found]:
    """Open each browser that is here once, and see what it says of itself."""
    return asyncio.run(_open_each(workspace, list(found)))


async def _open_each(workspace: Workspace, found: list[Found]) -> list[Found]:
    import aiohttp

    from wolfbane.browsers.browser_pool import BrowserPool
    from wolfbane.browsers.capabilities import Wanted
    from wolfbane.browsers.programs import Programs

    checked = []
    with Family() as family:
        async with aiohttp.ClientSession() as client:
            opener = BrowserPool(Programs(family), workspace, client, visible=False)
            for each in found:
                if each.problem:
                    checked.append(each)
                    continue
                try:
                    driver = await opener.take(each.name, Wanted())
                except (CannotOpen, WebDriverError, OSError) as error:
                    checked.append(replace(each, problem=str(error)))
                    continue
                told = str(driver.granted.get("browserVersion", each.version))
                checked.append(replace(each, version=told, opened=True))
                await driver.close()
            await opener.close()
    return checked
