"""A browser with a WebDriver driver: Wolfbane's own process, or one that is reached by URL."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import shutil
import subprocess
import time
from collections.abc import Coroutine, Mapping
from typing import Any

import aiohttp

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.browsers.downloads import saves_here
from wolfbane.browsers.engines.browser_process import ENDING, VANISHED, answer_or_end, ends_within
from wolfbane.browsers.engines.contract import BrowserStart
from wolfbane.browsers.engines.driver_logs import (
    CONSOLE,
    LOG_PATH,
    PERFORMANCE,
    PREFERENCES,
    DriverLogs,
    with_ours,
)
from wolfbane.browsers.engines.drivers import PATIENCE, Reply, fit, free_port, value_of
from wolfbane.browsers.engines.registry import find_engine
from wolfbane.browsers.engines.wanted import Wanted
from wolfbane.browsers.evidence.records import BrowserRecords
from wolfbane.browsers.failures import UNKNOWN_ERROR, CannotOpen, WebDriverError

_PORTS = 3


class W3CDriver:
    """A browser behind a WebDriver driver: Wolfbane's own process, or a driver that is reached by
    URL.
    """

    def __init__(self, start: BrowserStart) -> None:
        browser, self._engine = start.browser, find_engine(start.browser.engine)
        self.session = self.said = self.address = self._gone = ""
        self.records = BrowserRecords()
        self.downloads = browser.downloads if saves_here(browser) else ""
        self._listens, self._logs = start.listen, DriverLogs({})
        self.granted: dict[str, Any] = {}
        self._name, self._browser, self._here = start.name, browser, start.here
        self._programs, self._client, self._visible = start.programs, start.client, start.visible
        self._folder = self._programs.folder()
        more = self._engine.variables(self._folder, self.downloads)
        self._variables = {**start.variables, "TMPDIR": str(self._folder), **more}
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
                if self._engine.private_address:  # other users of the machine reach the port
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
        browser, engine = self._browser, self._engine
        sent = want.standard
        if not browser.url:
            arguments = engine.arguments(browser, self._folder, visible=self._visible)
            sent = engine.capabilities(
                want,
                browser,
                self._here.binary,
                arguments=[*arguments, *want.arguments],
                preferences={**engine.preferences(browser), **want.preferences},
            )
        if self._has_logs and self._listens:
            wished = dict(sent.get(PREFERENCES) or {})
            self._logs = DriverLogs(wished)
            sent |= with_ours(sent[engine.vendor], wished)
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
        if not engine.sizes_page(browser):
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
        if lost := self._engine.lost_message(message):
            self._gone = lost
        elif self._process and self._engine.may_mean_lost(code):
            # The driver sees the end of its connection before the kernel has ended the browser:
            # after an error without a message the browser gets a moment to vanish.
            seconds = ENDING if code == UNKNOWN_ERROR and not message else 0.0
            self._gone = VANISHED if await ends_within(self._process.pid, seconds) else ""

    async def _watched(self, sending: Coroutine[Any, Any, Reply]) -> Reply:
        """The response to a command, or its browser's end if the driver waits long for it."""
        starts = not self.session
        if self._process is None or not self._engine.waits_for_lost_browser(starts=starts):
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
        return self._engine.has_logs and not self._browser.url

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
