"""A session between a suite and its browser. Forwards commands and records events."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import msgspec
from msgspec.structs import replace

from wolfbane.browsers.downloads import Download, downloaded
from wolfbane.browsers.endpoints import Endpoint, named
from wolfbane.browsers.engines.drivers import BrowserDriver, Reply
from wolfbane.browsers.evidence.command_log import (
    HIDDEN,
    BrowserCommand,
    ElementNames,
    ReceivedCommand,
    answer,
    read_parameters,
)
from wolfbane.browsers.evidence.failed_commands import MISSING, FailedCommands, FailingCommand
from wolfbane.browsers.evidence.page_inspector import DialogOpened, PageLooks
from wolfbane.browsers.evidence.records import BrowserRecords, BrowserRequest, ConsoleLine
from wolfbane.browsers.evidence.snapshots import Snapshot, near, take
from wolfbane.browsers.failures import WebDriverError
from wolfbane.browsers.password_fields import PasswordFields
from wolfbane.workspace.vocabulary import ALL, OFF

_FRAMES = 60
_BUSY = 2.0
"""Seconds that a snapshot waits for a running command."""
_LEAVING = named("Navigate To", "Back", "Forward", "Refresh", "Close Window")
"""Commands after which the page is a different one."""
_CHANGING = _LEAVING | named(
    "Element Click",
    "Element Send Keys",
    "Element Clear",
    "Perform Actions",
    "Execute Script",
    "Execute Async Script",
    "Accept Alert",
    "Dismiss Alert",
    "Switch To Frame",
    "Switch To Parent Frame",
    "Switch To Window",
    "Set Window Rect",
)
"""Commands after which the page may look different."""
_DIALOGS = named("Accept Alert", "Dismiss Alert", "Get Alert Text", "Send Alert Text")


class PagePicture(msgspec.Struct):
    """A screenshot after a command that changed the page. ``at`` is in seconds of the session."""

    at: float
    picture: bytes


class SessionEvidence(msgspec.Struct):
    """The evidence of one test in one session. ``began`` is in seconds since 1970."""

    began: float
    commands: list[BrowserCommand] = msgspec.field(default_factory=list)
    snapshots: list[Snapshot] = msgspec.field(default_factory=list)
    frames: list[PagePicture] = msgspec.field(default_factory=list)
    console: list[ConsoleLine] = msgspec.field(default_factory=list)
    requests: list[BrowserRequest] = msgspec.field(default_factory=list)
    downloads: list[Download] = msgspec.field(default_factory=list)
    waited: str = ""
    shared: bool = False
    """Whether some commands may belong to another test that ran at the same time."""


class BrowserSession:
    """One session. It handles one command at a time."""

    def __init__(
        self,
        driver: BrowserDriver,
        browser: str,
        number: int,
        keep: str,
        tell: Callable[[BrowserCommand], None],
    ) -> None:
        self.driver, self.browser, self.opened = driver, browser, time.monotonic()
        self.opened_at = time.time()
        self.label = f"{browser} {number}"
        self.owners: frozenset[str] = frozenset()
        """The tests that ran when it was opened: it belongs to one of them."""
        self.tests: dict[str, SessionEvidence] = {}
        self.lost = ""
        self.over = self.was_tested = self._is_closed = False
        self.records: BrowserRecords = driver.records
        self._keep, self._tell = keep, tell
        self._names = ElementNames()
        self._looks = PageLooks(driver)
        self._passwords = PasswordFields(self._looks)
        self.secrets = self._passwords.secrets
        self._failed = FailedCommands()
        self._state = 0
        """Counts the changes of the page."""
        self._seen_state = -1
        """The command that the last snapshot shows."""
        self._doing: ReceivedCommand | None = None
        self._held: Reply | None = None
        """The response that one of Wolfbane's queries got in place of the suite's next command."""
        self.lock = asyncio.Lock()

    @property
    def has_failing_command(self) -> bool:
        """Whether the last command of the suite in this session failed."""
        return self._failed.last is not None

    def began(self, when: float) -> None:
        """Set the time of ``time.monotonic`` that the times of this session count from."""
        self.opened_at += when - self.opened
        self.opened = when

    def seen(self, test: str, ago: float = 0.0) -> SessionEvidence:
        """The evidence of a test. Its first command started at this time in the session."""
        if test not in self.tests:
            self.tests[test] = SessionEvidence(time.time() - ago)
        return self.tests[test]

    async def forward(self, method: str, path: str, body: bytes, tests: Sequence[str]) -> Reply:
        """Forward a command and record it. Raises an error if the browser no longer runs.

        ``tests`` are the possible senders: one test, or several if they run at the same time.
        """
        async with self.lock:
            began = time.monotonic()
            self._doing = ReceivedCommand.read(method, path, body)
            try:
                reply = await self._send(self._doing)
            except DialogOpened as met:
                reply = met.reply
            except OSError as error:
                self.lost = (
                    f"browser '{self.browser}' is no longer running: {self.driver.ended() or error}"
                )
                gone = WebDriverError("unknown error", self.lost)
                reply = Reply(gone.status, json.dumps({"value": gone.value}).encode())
            # By the standard the session ends with its last window, and some browsers end then.
            if self._doing.endpoint.name == "Close Window" and reply.value == []:
                self._is_closed = True
            elif reply.status >= 400 and not self._is_closed and (how := self.driver.ended()):
                self.lost = self.lost or f"browser '{self.browser}' is no longer running: {how}"
            done = self._doing, reply, began, time.monotonic(), tests
            if self._keep == ALL and self._doing.endpoint.name in _CHANGING and not self.lost:
                self._remember(*done)
                await self._frame(tests)
            else:
                # The answer goes out first. What follows from it comes after this all the same:
                # the event loop calls what is scheduled now before it reads from a connection.
                asyncio.get_running_loop().call_soon(self._remember, *done)
            return reply

    async def _send(self, command: ReceivedCommand) -> Reply:
        held, self._held = self._held, None
        name = command.name
        if held is not None and name not in _DIALOGS:
            return held
        failing = self._failed.last
        if name in _LEAVING and failing is not None and failing.test in self.tests:
            await self._look_at(failing, self.seen(failing.test))
        is_private = await self._passwords.is_typed_into(command)
        if name in _CHANGING:
            self._state += 1
        reply = await self.driver.command(command.method, command.path, command.body)
        if name == "Perform Actions" and not is_private:
            try:  # a click or a key of the same command may have moved the focus
                is_private = await self._passwords.has_focus(command)
            except DialogOpened as met:
                self._held = met.reply
        self._doing = replace(command, is_private=is_private)
        return self.driver.for_suite(command.path, command.parameters, reply)

    def _remember(
        self,
        command: ReceivedCommand,
        reply: Reply,
        began: float,
        ended: float,
        tests: Sequence[str],
    ) -> None:
        endpoint, value, message = command.endpoint, reply.value, command.description(self._names)
        if command.reads_value and command.places["element"] in self.secrets:
            value = HIDDEN if value else value
        if endpoint.name.startswith("Find") or endpoint.name == "Get Active Element":
            self._names.learn(command.parameters or {"value": "the focus"}, value)
        self.record(
            endpoint, message, reply.status, value=value, began=began, tests=tests, ended=ended
        )
        what = command.method, command.path, command.body
        if reply.status >= 400 and not self.lost:
            self._failed.add(what, tests[0], message, value, began)
        else:
            self._failed.succeeded(what, endpoint.name)

    def record(
        self,
        endpoint: Endpoint,
        message: str,
        status: int,
        value: Any,
        began: float,
        tests: Sequence[str],
        ended: float | None = None,
    ) -> None:
        """Record a command and report it. ``ended`` is now unless it is given."""
        now = time.monotonic() if ended is None else ended
        for test in tests:
            self.was_tested |= bool(test)
            seen = self.seen(test, now - began)
            seen.shared = seen.shared or len(tests) > 1
            seen.commands.append(
                BrowserCommand(
                    session=self.label,
                    test=test,
                    at=began - self.opened,
                    seconds=now - began,
                    sentence=self.secrets.mask(message),
                    status=status,
                    answer=self.secrets.mask(answer(endpoint, status, value, self._names)),
                )
            )
        self._tell(self.seen(tests[0]).commands[-1])

    async def look(self, test: str, seen: SessionEvidence, why: str) -> None:
        """Take a snapshot for a test that did not pass, or whose every step is recorded."""
        if self._keep != OFF:
            folder = self.driver.downloads
            seen.downloads = await asyncio.to_thread(downloaded, folder, seen.began)
        try:
            async with asyncio.timeout(_BUSY):
                await self.lock.acquire()
        except TimeoutError:
            doing = self._doing.description(self._names) if self._doing is not None else "open"
            seen.waited = f"browser '{self.browser}' was still executing a command: {doing}"
            return
        try:
            failing = self._failed.last
            if failing is not None and failing.test == test:
                await self._look_at(failing, seen)
            elif self._seen_state != self._state or not seen.snapshots:
                await self._snapshot(seen, why)
            await self._gather(seen)
        except DialogOpened as met:
            self._held = met.reply
        finally:
            self.lock.release()

    async def _gather(self, seen: SessionEvidence) -> None:
        """Add the console and the network log since its first command to a test."""
        if self._keep == OFF or self.lost:
            return
        await self.driver.read_records()
        seen.console = [line for line in self.records.console if line.at >= seen.began - _SLACK]
        seen.requests = [each for each in self.records.requests if each.at >= seen.began - _SLACK]

    async def _look_at(self, failing: FailingCommand, seen: SessionEvidence) -> None:
        """A command failed and no other followed: read the page before it changes."""
        self._failed.last = None
        if self._keep == OFF or self.lost:
            return
        if failing.code == MISSING:
            wanted = read_parameters(failing.what[2])
            using, value = str(wanted.get("using", "")), str(wanted.get("value", ""))
            like = await near(self._looks, using, value)
            there = f"; most similar on the page: {', '.join(like)}" if like else ""
            seen.waited = f"waited {failing.seconds:.1f} s for {value} (by {using}){there}"
        if self._seen_state != self._state or not seen.snapshots:
            await self._snapshot(seen, f"after it failed to {failing.description}")

    async def _snapshot(self, seen: SessionEvidence, why: str) -> None:
        if self._keep != OFF and not self.lost:
            shot = await take(self._looks, why, self.secrets, over=self.over)
            shot.at = time.monotonic() - self.opened
            seen.snapshots.append(shot)
            self._seen_state = self._state

    async def _frame(self, tests: Iterable[str]) -> None:
        try:
            shot = await take(self._looks, "", self.secrets, whole=False)
        except DialogOpened as met:
            self._held = met.reply
            return
        at = time.monotonic() - self.opened
        for test in tests:
            frames = self.seen(test).frames
            if shot.picture and len(frames) < _FRAMES:
                frames.append(PagePicture(at, shot.picture))


_SLACK = 0.05
"""Seconds by which the clocks of a browser may be behind Wolfbane's."""
