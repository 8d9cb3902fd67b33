"""One session each in one browser of its own, whatever protocol it takes to speak to it."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import shutil
import socket
import subprocess
import time
from pathlib import Path
from typing import Any, Protocol

import aiohttp
import msgspec

from wolfbane.browsers.capabilities import Wanted, device_metrics, for_driver, size
from wolfbane.browsers.failures import CannotOpen, WebDriverError
from wolfbane.browsers.finding import Installed
from wolfbane.browsers.programs import Programs
from wolfbane.exits import how_it_ended
from wolfbane.workspace.settings import Browser

PATIENCE = 60.0
_PORTS = 3
_FIT = "return [innerWidth, innerHeight, outerWidth, outerHeight]"


class Reply(msgspec.Struct, frozen=True):
    """What a browser answered: an HTTP status, and the body as JSON text."""

    status: int
    body: bytes

    @property
    def value(self) -> Any:
        """The answer's value; what cannot be read is nothing."""
        try:
            return json.loads(self.body).get("value")
        except (ValueError, AttributeError):
            return None


class BrowserDriver(Protocol):
    """A browser with one session."""

    session: str
    granted: dict[str, Any]
    said: str

    async def open(self, want: Wanted) -> None:
        """Start the browser and a session in it. Raises CannotOpen and WebDriverError."""

    async def command(self, method: str, path: str, body: bytes) -> Reply:
        """Send a command of the session. Raises OSError where the browser is gone."""

    async def close(self) -> None:
        """End the session, its programs, and its folder."""

    def ended(self) -> str:
        """How its program ended by itself; nothing while it runs."""


async def value_of(driver: BrowserDriver, method: str, path: str, body: Any = None) -> Any:
    """A command's value. Raises WebDriverError and OSError."""
    sent = b"" if method != "POST" else json.dumps(body or {}).encode()
    reply = await driver.command(method, path, sent)
    value = reply.value
    if reply.status >= 400:
        told = value if isinstance(value, dict) else {}
        raise WebDriverError(str(told.get("error", "")), str(told.get("message", "")))
    return value


class W3CDriver:
    """A browser behind a driver that speaks WebDriver: our own process, or one elsewhere."""

    def __init__(
        self, name: str, browser: Browser, here: Installed, programs: Programs,
        client: aiohttp.ClientSession, variables: dict[str, str], *, visible: bool,
    ) -> None:  # fmt: skip
        self.session = self.said = ""
        self.granted: dict[str, Any] = {}
        self._name, self._browser, self._here, self._programs = name, browser, here, programs
        self._client, self._visible = client, visible
        self._folder = programs.folder(name)
        self._variables = {**variables, "TMPDIR": str(self._folder)}
        self._said = self._folder / "driver.out"
        self._process: subprocess.Popen[bytes] | None = None
        self._url = browser.url.rstrip("/")
        self._member = self._folder.name

    async def open(self, want: Wanted) -> None:
        """Start the driver, if it is ours, and open a session. Raises CannotOpen."""
        try:
            if not self._url:
                await self._start()
            await self._begin(want)
        except BaseException:
            await self.close()
            raise

    async def _start(self) -> None:
        for _ in range(_PORTS):
            port = free_port()
            command = [part.replace("{port}", str(port)) for part in self._here.driver]
            if command == list(self._here.driver):
                command.append(f"--port={port}")
            try:
                self._process = self._programs.start(
                    command, self._variables, self._said, self._member
                )
            except OSError as error:
                raise CannotOpen(f"browser '{self._name}': {error}") from None
            url = f"http://127.0.0.1:{port}"
            if await self._is_up(url):
                self._url = url
                return
        raise CannotOpen(f"browser '{self._name}': its driver did not start: {self._last_words()}")

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
        sent = want.standard
        if not browser.url:
            sent = for_driver(browser, want, self._here.binary, arguments, preferences)
        body = json.dumps({"capabilities": {"alwaysMatch": sent}}).encode()
        try:
            reply = await self._send("POST", f"{self._url}/session", body)
        except OSError as error:
            raise CannotOpen(f"browser '{self._name}': {error}") from None
        value = reply.value if isinstance(reply.value, dict) else {}
        if reply.status >= 400 or "sessionId" not in value:
            said = str(value.get("message", "")) or self._last_words()
            words = f"browser '{self._name}' opened no session: {said}"
            raise WebDriverError("session not created", words)
        self.session, self.granted = value["sessionId"], value.get("capabilities", {})
        if browser.engine != "chromium" or not device_metrics(browser):
            self.said = await fit(self, browser)

    @property
    def address(self) -> str:
        """Where the driver has the session."""
        return f"{self._url}/session/{self.session}"

    async def command(self, method: str, path: str, body: bytes) -> Reply:
        """Forward a WebDriver command to the driver."""
        url = self.address
        return await self._send(method, f"{url}/{path}" if path else url, body)

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
            return ""
        return f"its driver ended: {how_it_ended(self._process.returncode)}"

    def _last_words(self) -> str:
        try:
            return self._said.read_text(errors="replace").strip()[-500:] or "it said nothing"
        except OSError:
            return "it said nothing"

    async def close(self) -> None:
        """End the session and the driver."""
        if self._browser.url and self.session:
            with contextlib.suppress(OSError):
                await self.command("DELETE", "", b"")
        if self._process is not None:
            process = self._process
            await asyncio.to_thread(self._programs.end, process, self._member)
        await asyncio.to_thread(shutil.rmtree, self._folder, ignore_errors=True)


async def fit(driver: BrowserDriver, browser: Browser) -> str:
    """Make the page as large as the settings say, whatever the window's frame takes.

    Returns words where the browser does not make it so.
    """
    wide = size(browser)
    if wide is None:
        return ""
    body = {"script": _FIT, "args": []}
    for _ in range(2):
        inner = await value_of(driver, "POST", "execute/sync", body)
        if tuple(inner[:2]) == wide:
            return ""
        frame = inner[2] - inner[0], inner[3] - inner[1]
        rect = {"width": wide[0] + frame[0], "height": wide[1] + frame[1]}
        await value_of(driver, "POST", "window/rect", rect)
    inner = await value_of(driver, "POST", "execute/sync", body)
    if tuple(inner[:2]) == wide:
        return ""
    return f"its page is {inner[0]}x{inner[1]}, not {browser.window}"


def _arguments(browser: Browser, folder: Path, *, visible: bool) -> list[str]:
    if browser.engine == "webkit":
        agent = [f"--user-agent={browser.user_agent}"] if browser.user_agent else []
        return [*agent, *browser.arguments]
    if browser.engine != "chromium":
        return list(browser.arguments)
    found = [
        "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
        "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage",
        f"--user-data-dir={folder / 'profile'}",
    ]  # fmt: skip
    if not visible:
        found.append("--headless=new")
    if os.geteuid() == 0:
        found.append("--no-sandbox")
    if wide := size(browser):
        found.append(f"--window-size={wide[0]},{wide[1]}")
    if browser.user_agent:
        found.append(f"--user-agent={browser.user_agent}")
    if browser.language:
        found.append(f"--lang={browser.language}")
    return [*found, *browser.arguments]


def _chromium_preferences(browser: Browser) -> dict[str, Any]:
    found: dict[str, Any] = dict(browser.preferences)
    if browser.language:
        found["intl.accept_languages"] = browser.language
    if browser.downloads:
        found["download.default_directory"] = browser.downloads
        found["download.prompt_for_download"] = False
    return found


def free_port() -> int:
    """A port of the loopback that nobody listens on just now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
