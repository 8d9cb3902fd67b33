"""The broker's endpoint for one worker: its sessions, its running tests, and their evidence."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections.abc import Awaitable, Callable, Iterable
from pathlib import Path

import msgspec

from wolfbane.browsers.browser_pool import BrowserPool
from wolfbane.browsers.downloads import WorkerDownloads
from wolfbane.browsers.endpoints import find
from wolfbane.browsers.engines.capabilities import wanted
from wolfbane.browsers.engines.drivers import value_of
from wolfbane.browsers.evidence.command_log import BrowserCommand
from wolfbane.browsers.failures import CannotOpen, WebDriverError
from wolfbane.browsers.sessions import BrowserSession, SessionEvidence
from wolfbane.workspace.vocabulary import ALL, OFF

Hold = Callable[[BrowserSession, str], Awaitable[None]]
"""Keeps a browser open after a failed test, until the user continues."""
_AT_ITS_END = "when its session ended"
OUTSIDE = ""
"""Represents no test: hooks of classes, modules and files."""


class Leftovers(msgspec.Struct):
    """The browser evidence of a test, by session, and texts for its message."""

    seen: list[tuple[BrowserSession, SessionEvidence]] = msgspec.field(default_factory=list)
    waited: list[str] = msgspec.field(default_factory=list)
    lost: str = ""
    unopened: str = ""
    secrets: frozenset[str] = frozenset()
    """The texts that were typed into password fields in the sessions of the test."""


class WorkerEndpoint:
    """The endpoint of one worker.

    Sessions that the suite ends stay open until the outcome of the test is known.

    Several tests may run at the same time in one worker. A session belongs to the test that opened
    it; if several tests ran at that time, it belongs to each of them until the others end.
    """

    def __init__(
        self,
        browser: str,
        opener: BrowserPool,
        keep: str,
        tell: Callable[[BrowserCommand], None],
        hold: Hold | None = None,
        downloads: Path | None = None,
    ) -> None:
        self._downloads = WorkerDownloads(downloads)
        self._hold = hold
        self.token = secrets.token_urlsafe(24)
        self.browser = browser
        self.running: dict[str, None] = {}
        self.said: dict[str, None] = {}
        self.sessions: dict[str, BrowserSession] = {}
        self._opener, self._keep, self._tell = opener, keep, tell
        self._ended: list[BrowserSession] = []
        self._of_hooks: list[BrowserSession] = []
        """Closed sessions in which a hook of the file failed, or may have failed."""
        self._count = 0
        self._trouble: dict[str, str] = {}
        self._typed: dict[str, frozenset[str]] = {}
        """Texts that tests typed into password fields of sessions that they ended."""
        self._closed = False
        self._opening: dict[str, float] = {}
        self._looking = asyncio.Lock()

    def begin_file(self) -> None:
        """The worker starts a file: hooks of other files failed none of its tests."""
        self._of_hooks.clear()

    def started(self, test: str) -> None:
        """The worker starts a test."""
        self.running[test] = None

    def tests_of(self, session: BrowserSession) -> list[str]:
        """The tests that may have sent the current command of a session."""
        owners = [test for test in self.running if test in session.owners]
        return owners or list(self.running) or [OUTSIDE]

    async def open(self, body: object) -> BrowserSession:
        """A new session, only for this worker. Raises WebDriverError."""
        try:
            want = wanted(self.browser, self._opener.browser(self.browser), body)
        except ValueError as error:
            raise WebDriverError("invalid argument", str(error)) from None
        self.said.update(dict.fromkeys(want.said))
        self._close_forgotten()
        began = time.monotonic()
        tests = list(self.running) or [OUTSIDE]
        # Trouble is blamed on a test only where no other can be meant.
        blamed = tests if len(tests) == 1 else []
        self._opening.update(dict.fromkeys(blamed, began))
        try:
            driver = await self._opener.take(self.browser, want)
        except (CannotOpen, OSError) as error:
            self._trouble.update(dict.fromkeys(blamed, str(error)))
            raise WebDriverError("session not created", str(error)) from None
        except WebDriverError as error:
            self._trouble.update(dict.fromkeys(blamed, error.message))
            raise
        finally:
            for test in blamed:
                self._opening.pop(test, None)
        if self._closed:
            self._opener.release(driver)
            raise WebDriverError("session not created", "the worker that requested it has ended")
        if want.timeouts:
            try:
                await value_of(driver, "POST", "timeouts", want.timeouts)
            except (WebDriverError, OSError) as error:
                self._opener.release(driver)
                if isinstance(error, WebDriverError):
                    raise
                raise WebDriverError("session not created", str(error)) from None
        self._downloads.opened(driver.downloads)
        self._count += 1
        keep, tell = self._keep, self._tell
        session = BrowserSession(driver, self.browser, self._count, keep=keep, tell=tell)
        session.began(began)
        session.owners = frozenset(tests) - {OUTSIDE}
        session.record(*find("POST", "")[:1], "open a session", 200, None, began, tests)
        self.sessions[driver.session] = session
        return session

    def _close_forgotten(self) -> None:
        """Sessions that tests did not close before the next test opened its own."""
        for name, session in list(self.sessions.items()):
            if session.owners and not session.owners & self.running.keys():
                owner = min(session.owners)
                self.said[
                    f"{owner} did not close its browser session; "
                    f"the session was closed automatically"
                ] = None
                self._opener.release(self.sessions.pop(name).driver, self._looking)
                self._downloads.ended(session.driver.downloads)

    async def end(self, session: BrowserSession) -> None:
        """The suite ended a session: it is closed for the suite, but stays open for snapshots."""
        self.sessions.pop(session.driver.session, None)
        self._downloads.ended(session.driver.downloads)
        began = time.monotonic()
        tests = self.tests_of(session)
        session.record(*find("DELETE", "")[:1], "end the session", 200, None, began, tests)
        for test in tests:
            self._typed[test] = self._typed.get(test, frozenset()) | session.secrets.texts
        session.over = True
        if self._keep == OFF:
            self._opener.release(session.driver, self._looking)
        elif tests == [OUTSIDE]:
            # The worker names the tests of a failed hook much later: browsers cannot wait for it.
            # One that no test came to use may be that of a set-up whose own check failed.
            if session.has_failing_command or not session.was_tested:
                await session.look(OUTSIDE, session.seen(OUTSIDE), _AT_ITS_END)
                self._of_hooks.append(session)
            self._opener.release(session.driver, self._looking)
        else:
            self._ended.append(session)

    async def finish(self, test: str, *, bad: bool) -> Leftovers:
        """A test has ended: read its pages if it failed, and close the sessions that it ended.

        If a hook prevented a test from starting, the hook's commands are its evidence.
        """
        if test in self.running:
            key = test
        else:
            key = OUTSIDE
        left = Leftovers(unopened=self._trouble.get(key, "") if bad else "")
        left.secrets = self._typed.pop(key, frozenset())
        self._trouble.pop(test, None)
        if began := self._opening.pop(test, 0.0):
            seconds = time.monotonic() - began
            left.unopened = f"browser '{self.browser}' was still not open after {seconds:.0f} s"
        self.running.pop(test, None)
        over = [each for each in self._ended if key == test and not self._is_used(each)]
        try:
            async with self._looking:
                for session in [*self._ended, *self.sessions.values()]:
                    if seen := session.tests.get(key):
                        left.secrets |= session.secrets.texts
                        await self._look(session, seen, key, left=left, bad=bad)
            if bad and key == OUTSIDE:
                for session in self._of_hooks:
                    self._add(left, session, session.seen(OUTSIDE))
            still_open = [session for session, _ in left.seen if session not in self._of_hooks]
            if bad and still_open and self._hold is not None:
                await self._hold(still_open[-1], key)
        finally:
            if key == test:
                self._trouble.pop(OUTSIDE, None)
                for session in [*self._ended, *self.sessions.values()]:
                    session.tests.pop(key, None)
            self._let_go(over)
        if not self.running:
            self._downloads.remove()
        self._opener.test_over(self.browser)
        return left

    def _is_used(self, session: BrowserSession) -> bool:
        """Whether a running test may have used a session."""
        return not self.running.keys().isdisjoint({*session.owners, *session.tests})

    def _let_go(self, over: Iterable[BrowserSession]) -> None:
        """Close sessions that no test needs any longer."""
        for session in over:
            if session in self._ended:
                self._ended.remove(session)
                self._opener.release(session.driver)

    async def _look(
        self,
        session: BrowserSession,
        seen: SessionEvidence,
        test: str,
        left: Leftovers,
        *,
        bad: bool,
    ) -> None:
        left.lost = left.lost or session.lost
        if bad or self._keep == ALL:
            why = "when the test ended"
            if session.over:
                why = _AT_ITS_END
            await session.look(test, seen, why)
            self._add(left, session, seen)

    @staticmethod
    def _add(left: Leftovers, session: BrowserSession, seen: SessionEvidence) -> None:
        left.seen.append((session, seen))
        if seen.waited:
            left.waited += [seen.waited]

    def close(self, worker: str) -> None:
        """The worker has ended: close the sessions that it did not close."""
        self._closed = True
        if self.sessions and worker:
            count = len(self.sessions)
            plural = "session"
            if count > 1:
                plural = "sessions"
            self.said[
                f"{worker} did not close {count} browser {plural}; closed automatically at its end"
            ] = None
        for session in [*self.sessions.values(), *self._ended]:
            self._opener.release(session.driver)
        self.sessions.clear()
        self._ended.clear()
