"""A session between a suite and its browser: forward commands, remember what happened."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Callable, Mapping
from typing import Any

import msgspec

from wolfbane.browsers.command_log import BrowserCommand, ElementNames, answer, sentence
from wolfbane.browsers.drivers import BrowserDriver, Reply, value_of
from wolfbane.browsers.endpoints import Endpoint, find
from wolfbane.browsers.evidence_policy import ALL, OFF
from wolfbane.browsers.failures import WebDriverError
from wolfbane.browsers.snapshots import Snapshot, near, take

_FRAMES = 60
_BUSY = 2.0
"""Seconds that a look waits for a command under way."""
_MOVES = {"Navigate To", "Element Click", "Back", "Forward", "Refresh", "Perform Actions"}
_MISSING = "no such element"


class SessionEvidence(msgspec.Struct):
    """What one test left behind in one session."""

    commands: list[BrowserCommand] = msgspec.field(default_factory=list)
    snapshots: list[Snapshot] = msgspec.field(default_factory=list)
    frames: list[bytes] = msgspec.field(default_factory=list)
    waited: str = ""


class _Failing(msgspec.Struct):
    """A command that fails again and again: somebody waits for something."""

    method: str
    path: str
    body: bytes
    since: float
    until: float
    test: str
    words: str
    code: str

    @property
    def what(self) -> tuple[str, str, bytes]:
        """Equal for one command sent again."""
        return self.method, self.path, self.body


class BrowserSession:
    """One session. Commands come one at a time."""

    def __init__(
        self,
        driver: BrowserDriver,
        browser: str,
        number: int,
        keep: str,
        tell: Callable[[BrowserCommand], None],
    ) -> None:
        self.driver, self.browser, self.opened = driver, browser, time.monotonic()
        self.label = f"{browser} {number}"
        self.opened_in = ""
        self.tests: dict[str, SessionEvidence] = {}
        self.lost = self._doing = ""
        self.over = False
        self._keep, self._tell = keep, tell
        self._names = ElementNames()
        self._failing: _Failing | None = None
        self._private: dict[str, bool] = {}
        self.lock = asyncio.Lock()

    def seen(self, test: str) -> SessionEvidence:
        """What a test left behind."""
        return self.tests.setdefault(test, SessionEvidence())

    async def forward(self, method: str, path: str, body: bytes, test: str) -> Reply:
        """Send a command on and remember it. An error too where the browser is gone."""
        async with self.lock:
            if self._failing and (method, path, body) != self._failing.what:
                await self._look_at_failure()
            endpoint, places = find(method, path)
            told = _read(body)
            private = await self._is_private(endpoint, places)
            began = time.monotonic()
            self._doing = sentence(endpoint, places, told, self._names, private=private)
            try:
                reply = await self.driver.command(method, path, body)
            except OSError as error:
                self.lost = f"browser '{self.browser}' is gone: {self.driver.ended() or error}"
                gone = WebDriverError("unknown error", self.lost)
                reply = Reply(gone.status, json.dumps({"value": gone.value}).encode())
            value = reply.value
            if endpoint.name.startswith("Find") or endpoint.name == "Get Active Element":
                self._names.learn(told or {"value": "the focus"}, value)
            words = self._doing
            self.record(endpoint, words, reply.status, value, began, test)
            if reply.status >= 400 and not self.lost:
                self._fails(method, path, body, began, test, words, value)
            else:
                self._failing = None
            if self._keep == ALL and endpoint.name in _MOVES and not self.lost:
                await self._frame(test)
            return reply

    def record(
        self, endpoint: Endpoint, words: str, status: int, value: Any, began: float, test: str
    ) -> None:
        """Remember a command, and tell of it."""
        now = time.monotonic()
        command = BrowserCommand(
            self.label, test, began - self.opened, now - began, words, status,
            answer(endpoint, status, value, self._names),
        )  # fmt: skip
        self.seen(test).commands.append(command)
        self._tell(command)

    def _fails(
        self, method: str, path: str, body: bytes, began: float, test: str, words: str, value: Any
    ) -> None:
        code = str(value.get("error", "")) if isinstance(value, Mapping) else ""
        now = time.monotonic()
        if self._failing and self._failing.what == (method, path, body):
            self._failing.until = now
        else:
            self._failing = _Failing(method, path, body, began, now, test, words, code)

    async def look(self, test: str, seen: SessionEvidence, why: str) -> None:
        """Take a snapshot for a test that went wrong, or whose every step is kept."""
        try:
            async with asyncio.timeout(_BUSY):
                await self.lock.acquire()
        except TimeoutError:
            seen.waited = f"browser '{self.browser}' was still busy: {self._doing}"
            return
        try:
            if self._failing and self._failing.test == test:
                await self._look_at_failure(seen)
            else:
                await self._snapshot(seen, why)
        finally:
            self.lock.release()

    async def _look_at_failure(self, seen: SessionEvidence | None = None) -> None:
        """A command failed and nobody tries it again: look while the page is as it was."""
        failing, self._failing = self._failing, None
        if failing is None or self._keep == OFF or self.lost:
            return
        seen = seen or self.seen(failing.test)
        if failing.code == _MISSING:
            wanted = _read(failing.body)
            seconds = failing.until - failing.since
            using, value = str(wanted.get("using", "")), str(wanted.get("value", ""))
            like = await near(self.driver, using, value)
            there = f"; most like it on the page: {', '.join(like)}" if like else ""
            words = f"waited {seconds:.1f} s for {value} (by {using}){there}"
            seen.waited = words
        await self._snapshot(seen, f"after it failed to {failing.words}")

    async def _snapshot(self, seen: SessionEvidence, why: str) -> None:
        if self._keep != OFF and not self.lost:
            seen.snapshots.append(await take(self.driver, why))

    async def _frame(self, test: str) -> None:
        frames = self.seen(test).frames
        if len(frames) < _FRAMES and (frame := await take(self.driver, "", whole=False)).picture:
            frames.append(frame.picture)

    async def _is_private(self, endpoint: Endpoint, places: Mapping[str, str]) -> bool:
        """Whether a command types into a field for passwords."""
        try:
            if endpoint.name == "Element Send Keys":
                return await self._is_password(places["element"])
            if endpoint.name == "Perform Actions":
                active = await value_of(self.driver, "GET", "element/active")
                return await self._is_password(next(iter(active.values())))
        except (OSError, WebDriverError, AttributeError, StopIteration):
            return False
        return False

    async def _is_password(self, element: str) -> bool:
        if element not in self._private:
            kind = await value_of(self.driver, "GET", f"element/{element}/property/type")
            self._private[element] = kind == "password"
        return self._private[element]


def _read(body: bytes) -> Mapping[str, Any]:
    try:
        told = json.loads(body) if body else {}
    except ValueError:
        return {}
    return told if isinstance(told, Mapping) else {}
