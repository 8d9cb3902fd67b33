"""A browser with a WebDriver driver: Wolfbane's own process, or one that is reached by URL."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import re
import shutil
import subprocess
import time
from collections.abc import Coroutine, Mapping
from pathlib import Path
from typing import Any

import aiohttp

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.browsers.downloads import saves_here
from wolfbane.browsers.engines.browser_process import ENDING, VANISHED, answer_or_end, ends_within
from wolfbane.browsers.engines.capabilities import Wanted, device_metrics, for_driver, size
from wolfbane.browsers.engines.discovery import Installed
from wolfbane.browsers.engines.driver_logs import (
    CONSOLE,
    LOG_PATH,
    PERFORMANCE,
    PREFERENCES,
    DriverLogs,
    with_ours,
)
from wolfbane.browsers.engines.drivers import PATIENCE, Reply, fit, free_port, value_of
from wolfbane.browsers.engines.programs import Programs
from wolfbane.browsers.evidence.records import BrowserRecords
from wolfbane.browsers.failures import CannotOpen, WebDriverError
from wolfbane.workspace.settings import Browser

_PORTS = 3
_UNKNOWN = "unknown error"
_SUSPICIOUS = (_UNKNOWN, "invalid session id", "timeout")
"""Errors that WebKit's driver also returns if its browser has ended."""
_EMPTY_START = {"session.restore_on_startup": 4, "session.startup_urls": ["data:,"]}
"""The value from chromedriver's own profiles; otherwise, Chromium loads its page for new tabs."""
_GONE = ("disconnected", "not reachable", "browser has closed the connection", "crash")
"""The message of chromedriver if its browser no longer runs."""


class W3CDriver:
    """A browser behind a WebDriver driver: Wolfbane's own process, or a driver that is reached by
    URL.
    """

    def __init__(
        self,
        name: str,
        browser: Browser,
        here: Installed,
        programs: Programs,
        client: aiohttp.ClientSession,
        variables: dict[str, str],
        *,
        visible: bool,
        listen: bool,
    ) -> None:
        self.session = self.said = self.address = self._gone = ""
        self.records = BrowserRecords()
        self.downloads = browser.downloads if saves_here(browser) else ""
        self._listens, self._logs = listen, DriverLogs({})
        self.granted: dict[str, Any] = {}
        self._name, self._browser, self._here, self._programs = name, browser, here, programs
        self._client, self._visible = client, visible
        self._folder = programs.folder()
        self._variables = {**variables, "TMPDIR": str(self._folder)}
        if browser.engine == "webkit" and self.downloads:
            self._variables["XDG_CONFIG_HOME"] = str(_user_folders(self._folder, self.downloads))
        self._said = self._folder / "driver.out"
        self._process: subprocess.Popen[bytes] | None = None
        self._url = browser.url.rstrip("/")
        self._member = self._folder.name

    async def open(self, want: Wanted) -> None:
        """Start the driver, if it is Wolfbane's own, and open a session. Raises CannotOpen."""
        try:
            if not self._url:
                await self._start()
            await self._begin(want)
        except BaseException:
            await self.close()
            raise

    async def _start(self) -> None:
        for _ in range(_PORTS):
            port, path = free_port(), ""
            command = [part.replace("{port}", str(port)) for part in self._here.driver]
            if command == list(self._here.driver):
                command.append(f"--port={port}")
                if self._browser.engine == "chromium":  # other users of the machine reach the port
                    path = f"/{os.urandom(16).hex()}"
                    command.append(f"--url-base={path}")
            try:
                self._process = self._programs.start(
                    command, self._variables, self._said, self._member
                )
            except OSError as error:
                raise CannotOpen(f"browser '{self._name}': {error}") from None
            url = f"http://127.0.0.1:{port}{path}"
            if await self._is_up(url):
                self._url = url
                return
        raise CannotOpen(f"browser '{self._name}': the driver did not start: {self._last_words()}")

    async def _is_up(self, url: str) -> bool:
        until = time.monotonic() + PATIENCE
        while time.monotonic() < until and self._process and self._process.poll() is None:
            try:
                async with self._client.get(f"{url}/status") as answer:
                    if answer.status == 200:
                        return True
            except (aiohttp.ClientError, OSError):
                await asyncio.sleep(0.01)
        return False

    async def _begin(self, want: Wanted) -> None:
        browser = self._browser
        arguments = [*_arguments(browser, self._folder, visible=self._visible), *want.arguments]
        preferences = {**_chromium_preferences(browser), **want.preferences}
        sent, binary = want.standard, self._here.binary
        if not browser.url:
            sent = for_driver(browser, want, binary, arguments=arguments, preferences=preferences)
        if self._has_logs and self._listens:
            wished = dict(sent.get(PREFERENCES) or {})
            self._logs = DriverLogs(wished)
            sent |= with_ours(sent["goog:chromeOptions"], wished)
        body = json.dumps({"capabilities": {"alwaysMatch": sent}}).encode()
        try:
            reply = await self._watched(self._send("POST", f"{self._url}/session", body))
        except OSError as error:
            raise CannotOpen(f"browser '{self._name}': {error}") from None
        value = reply.value if isinstance(reply.value, dict) else {}
        if reply.status >= 400 or "sessionId" not in value:
            message = str(value.get("message", "")) or self._last_words()
            problem = f"browser '{self._name}' could not open a session: {message}"
            raise WebDriverError("session not created", problem)
        self.address = f"{self._url}/session/{value['sessionId']}"
        self.session, self.granted = value["sessionId"], value.get("capabilities", {})
        if browser.engine != "chromium" or not device_metrics(browser):
            self.said = await fit(self, browser)

    async def command(self, method: str, path: str, body: bytes) -> Reply:
        """Forward a WebDriver command to the driver."""
        url = self.address
        reply = await self._watched(self._send(method, f"{url}/{path}" if path else url, body))
        if reply.status >= 400:
            await self._look_for_browser(reply.value)
        return reply

    async def _look_for_browser(self, error: Any) -> None:
        """Checks whether the browser still runs, after an error that may mean that it ended."""
        fields = error if isinstance(error, Mapping) else {}
        code, message = str(fields.get("error", "")), str(fields.get("message", ""))
        if self._browser.engine == "chromium" and any(sign in message for sign in _GONE):
            self._gone = message.partition("\n")[0]
        elif self._browser.engine == "webkit" and self._process and code in _SUSPICIOUS:
            # The driver sees the end of its connection before the kernel has ended the browser:
            # after an error without a message the browser gets a moment to vanish.
            seconds = ENDING if code == _UNKNOWN and not message else 0.0
            self._gone = VANISHED if await ends_within(self._process.pid, seconds) else ""

    async def _watched(self, sending: Coroutine[Any, Any, Reply]) -> Reply:
        """The response to a command.

        WebKit's driver waits minutes for a browser that no longer runs, and chromedriver waits one
        for a browser that ends before its first response through the pipe.
        """
        engine, starts = self._browser.engine, not self.session
        is_waiting = engine == "webkit" or (engine == "chromium" and starts)
        if not is_waiting or self._process is None:
            return await sending
        try:
            return await answer_or_end(sending, self._process.pid, started=not starts)
        except TimeoutError:
            self._gone = VANISHED
            raise ConnectionResetError(self._gone) from None

    async def read_records(self) -> None:
        """Read chromedriver's logs; other drivers have none."""
        if not (self._has_logs and self._listens):
            return
        for kind in (CONSOLE, PERFORMANCE):
            try:
                entries = await value_of(self, "POST", LOG_PATH, {"type": kind})
            except WebDriverError:
                continue
            self._take(kind, entries)
            self._logs.read_early(kind, entries)

    def for_suite(self, path: str, parameters: Mapping[str, Any], reply: Reply) -> Reply:
        """Return log entries that Wolfbane has already read to the suite; keep what it reads."""
        if not path.startswith(LOG_PATH) or not (self._has_logs and self._listens):
            return reply
        if path != LOG_PATH:
            return self._logs.types(reply)
        kind = str(parameters.get("type", ""))
        if reply.status < 400:
            self._take(kind, reply.value)
        return self._logs.answer(kind, reply)

    def _take(self, kind: str, entries: Any) -> None:
        for entry in entries or ():
            if kind == CONSOLE:
                self.records.add_console_entry(entry)
            elif kind == PERFORMANCE:
                self.records.add_performance_entry(entry)

    @property
    def _has_logs(self) -> bool:
        return self._browser.engine == "chromium" and not self._browser.url

    async def _send(self, method: str, url: str, body: bytes) -> Reply:
        headers = {"Content-Type": "application/json; charset=utf-8"} if body else {}
        try:
            async with self._client.request(
                method, url, data=body or None, headers=headers
            ) as answer:
                return Reply(answer.status, await answer.read())
        except aiohttp.ClientError as error:
            raise ConnectionResetError(self.ended() or str(error)) from error

    def ended(self) -> str:
        """How its process ended; empty while it runs."""
        if self._process is None or self._process.poll() is None:
            return self._gone
        return f"the driver ended: {how_it_ended(self._process.returncode)}"

    def _last_words(self) -> str:
        try:
            return self._said.read_text(errors="replace").strip()[-500:] or "no output"
        except OSError:
            return "no output"

    async def close(self) -> None:
        """End the session and the driver."""
        if self._browser.url and self.session:
            with contextlib.suppress(OSError):
                await self.command("DELETE", "", b"")
        if self._process is not None:
            process = self._process
            await asyncio.to_thread(self._programs.end, process, self._member)
        await asyncio.to_thread(shutil.rmtree, self._folder, ignore_errors=True)


def _arguments(browser: Browser, folder: Path, *, visible: bool) -> list[str]:
    if browser.engine == "webkit":
        agent = [f"--user-agent={browser.user_agent}"] if browser.user_agent else []
        return [*agent, *browser.arguments]
    if browser.engine != "chromium":
        return list(browser.arguments)
    arguments = [
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--disable-dev-shm-usage",
        f"--user-data-dir={folder / 'profile'}",
        # Every user of the machine can reach a port, and drive the browser through it.
        "--remote-debugging-pipe",
    ]
    if not visible:
        arguments.append("--headless=new")
    if os.geteuid() == 0:
        arguments.append("--no-sandbox")
    if wide := size(browser):
        arguments.append(f"--window-size={wide[0]},{wide[1]}")
    if browser.user_agent:
        arguments.append(f"--user-agent={browser.user_agent}")
    if browser.language:
        arguments.append(f"--lang={browser.language}")
    return [*arguments, *browser.arguments]


def _user_folders(folder: Path, downloads: str) -> Path:
    """A folder of settings with the folder for downloads (xdg-user-dirs), as WebKit reads it."""
    path = folder / "config"
    path.mkdir()
    quoted = re.sub(r'(["$`\\\\])', r"\\\1", downloads)
    (path / "user-dirs.dirs").write_text(f'XDG_DOWNLOAD_DIR="{quoted}"\n', encoding="utf-8")
    return path


def _chromium_preferences(browser: Browser) -> dict[str, Any]:
    preferences: dict[str, Any] = {**_EMPTY_START, **browser.preferences}
    if browser.language:
        preferences["intl.accept_languages"] = browser.language
    if browser.downloads:
        preferences["download.default_directory"] = browser.downloads
        preferences["download.prompt_for_download"] = False
    return preferences
