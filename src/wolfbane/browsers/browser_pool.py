"""Opens browsers: one in advance for each browser in use, and more on request."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import Coroutine, Mapping
from pathlib import Path

import aiohttp

from wolfbane.browsers.downloads import saves_here, settled_folder, with_folder
from wolfbane.browsers.engines.contract import BrowserStart
from wolfbane.browsers.engines.discovery import has_screen, installed
from wolfbane.browsers.engines.display import Display
from wolfbane.browsers.engines.drivers import PATIENCE, BrowserDriver, value_of
from wolfbane.browsers.engines.firefox_start_files import StartFiles
from wolfbane.browsers.engines.programs import Programs
from wolfbane.browsers.engines.registry import find_engine
from wolfbane.browsers.engines.w3c_driver import W3CDriver
from wolfbane.browsers.engines.wanted import Wanted
from wolfbane.browsers.failures import CannotOpen, WebDriverError
from wolfbane.workspace.settings import Browser, Workspace

_PATIENCE = 5.0
"""Seconds for a browser that was opened in advance to respond."""


class BrowserPool:
    """Keeps browsers for a run.

    A browser that was opened in advance is used once, for a matching request.
    """

    def __init__(
        self,
        programs: Programs,
        workspace: Workspace,
        client: aiohttp.ClientSession,
        *,
        visible: bool,
        listen: bool,
    ) -> None:
        self._listen = listen
        self._programs, self._workspace, self._client = programs, workspace, client
        self._visible = visible and has_screen()
        self._display = Display(programs)
        self._start_files = StartFiles(programs.folder())
        self._warm: dict[str, tuple[str, asyncio.Task[BrowserDriver]]] = {}
        self._closing: set[asyncio.Task[None]] = set()
        self.versions: dict[str, str] = {}
        self.said: dict[str, None] = {}
        self.left: Counter[str] = Counter()
        """The remaining tests by browser: no browser is opened in advance if there are none."""

    def browser(self, name: str) -> Browser:
        """The settings of a browser."""
        return self._workspace.browser(name)

    def downloads_of_worker(self, name: str) -> Path | None:
        """The path under which a worker finds the downloads of its newest session.

        It is a link if each session has its own folder. None if Wolfbane does not know them.
        """
        browser = self._workspace.browser(name)
        if not saves_here(browser):
            return None
        settled = settled_folder(self._workspace.root, browser)
        return settled or self._programs.folder() / "downloads"

    async def take(self, name: str, want: Wanted) -> BrowserDriver:
        """A browser with a new session. Raises CannotOpen, WebDriverError or OSError."""
        key, task = self._warm.pop(name, ("", None))
        if task is not None and key != want.key:
            self._discard(task)
            task = None
        try:
            driver = None
            if task is not None:
                driver = await self._opened_ahead(task)
            if driver is None:
                driver = await self._open(name, want)
        finally:
            if self.left[name] > 1:
                self.expect(name, want)
        return driver

    async def _opened_ahead(self, task: asyncio.Task[BrowserDriver]) -> BrowserDriver | None:
        """The browser that was opened in advance, if it still runs.

        Its check costs no test any time.

        Raises the errors of :meth:`take` if the browser did not open within its full time limit.
        """
        began = time.monotonic()
        try:
            driver = await task
        except (CannotOpen, OSError, WebDriverError):
            if time.monotonic() - began > PATIENCE / 2:  # it would take as long once more
                raise
            return None
        if await _answers(driver):
            return driver
        self.release(driver)
        return None

    def expect(self, name: str, want: Wanted) -> None:
        """Open one in advance, unless there is one."""
        if name not in self._warm:
            self._warm[name] = (want.key, asyncio.create_task(self._open(name, want)))

    async def ready(self, name: str) -> None:
        """Wait until the browser that opens in advance is ready or has failed."""
        if name in self._warm:
            await asyncio.wait([self._warm[name][1]])

    def test_over(self, name: str) -> None:
        """One test fewer remains; after the last test, no browser is kept open."""
        self.left[name] -= 1
        if self.left[name] <= 0 and name in self._warm:
            self._discard(self._warm.pop(name)[1])

    def release(self, driver: BrowserDriver, looking: asyncio.Lock | None = None) -> None:
        """Close a browser in the background, when no user looks at it any longer."""

        async def close() -> None:
            async with looking or asyncio.Lock():
                await driver.close()

        self._meanwhile(close())

    async def close(self) -> None:
        """Close the browser that was opened in advance, and wait for all that are closing."""
        for _, task in self._warm.values():
            self._discard(task)
        self._warm.clear()
        while self._closing:
            await asyncio.gather(*self._closing, return_exceptions=True)

    async def _open(self, name: str, want: Wanted) -> BrowserDriver:
        browser = self._workspace.browser(name)
        here = installed(name, browser)
        browser = with_folder(self._workspace.root, browser, self._programs)
        self._programs.see_to_room(name)
        engine = find_engine(browser.engine)
        if engine.needs_short_paths and not browser.url:
            self._programs.see_to_length(name)
        variables = _variables(browser)
        if engine.needs_screen and not self._visible and not browser.url:
            variables.update(await self._display.variables())
        start = BrowserStart(
            name=name,
            browser=browser,
            here=here,
            programs=self._programs,
            client=self._client,
            variables=variables,
            start_files=self._start_files,
            visible=self._visible,
            listen=self._listen,
        )
        driver = engine.driver(start) or W3CDriver(start)
        await driver.open(want)
        granted = (str(driver.granted.get(key, "")) for key in ("browserName", "browserVersion"))
        self.versions[name] = " ".join(filter(None, granted))
        if driver.said:
            self.said[f"browser '{name}': {driver.said}"] = None
        return driver

    def _discard(self, task: asyncio.Task[BrowserDriver]) -> None:
        async def end() -> None:
            if not task.done():
                task.cancel()
            results = await asyncio.gather(task, return_exceptions=True)
            if not isinstance(results[0], BaseException):
                await results[0].close()

        self._meanwhile(end())

    def _meanwhile(self, work: Coroutine[None, None, None]) -> None:
        task = asyncio.create_task(work)
        self._closing.add(task)
        task.add_done_callback(self._closing.discard)


async def _answers(driver: BrowserDriver) -> bool:
    """Whether a browser that was opened in advance still runs."""
    try:
        async with asyncio.timeout(_PATIENCE):
            await value_of(driver, "GET", "window")
    except (OSError, TimeoutError, WebDriverError):
        return False
    return not driver.ended()


def _variables(browser: Browser) -> dict[str, str]:
    if browser.time_zone:
        variables = {"TZ": browser.time_zone}
    else:
        variables = {}
    if browser.language and find_engine(browser.engine).locale_variables:
        locale = browser.language.replace("-", "_")
        variables |= {"LANGUAGE": locale, "LC_ALL": f"{locale}.UTF-8"}
    return variables


def variables_of(
    url: str, browser: str, named: Mapping[str, str | list[str]], downloads: Path | None
) -> dict[str, str]:
    """The environment variables with the endpoint of a suite, named by its settings."""
    address = url.removeprefix("http://")
    host, _, path = address.partition("/")
    parts = {
        "url": url,
        "host": host.rpartition(":")[0],
        "port": host.rpartition(":")[2],
        "path": f"/{path}",
        "browser": browser,
    }
    if downloads is not None:
        parts["downloads"] = str(downloads)
    variables = {}
    for part, names in (named or {"url": "WEBDRIVER_URL"}).items():
        for variable in [names] if isinstance(names, str) else names:
            if part in parts:
                variables[variable] = parts[part]
    return variables
