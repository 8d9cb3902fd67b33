"""A worker's end of the broker: its sessions, what it is testing, what it leaves behind."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections.abc import Callable

import msgspec

from wolfbane.browsers.browser_pool import BrowserPool
from wolfbane.browsers.capabilities import wanted
from wolfbane.browsers.command_log import BrowserCommand
from wolfbane.browsers.drivers import value_of
from wolfbane.browsers.endpoints import find
from wolfbane.browsers.evidence_policy import ALL, OFF
from wolfbane.browsers.failures import CannotOpen, WebDriverError
from wolfbane.browsers.sessions import BrowserSession, SessionEvidence


class Left(msgspec.Struct):
    """What a test left behind in the browsers: by session, and words for its message."""

    seen: list[tuple[str, SessionEvidence]] = msgspec.field(default_factory=list)
    waited: list[str] = msgspec.field(default_factory=list)
    lost: str = ""
    unopened: str = ""


class WorkerEndpoint:
    """One worker's. Sessions that it ends live on until the test is judged, to be looked at."""

    def __init__(
        self, browser: str, opener: BrowserPool, keep: str, tell: Callable[[BrowserCommand], None]
    ) -> None:
        self.token = secrets.token_urlsafe(24)
        self.browser = browser
        self.current = ""
        self.said: dict[str, None] = {}
        self.sessions: dict[str, BrowserSession] = {}
        self._opener, self._keep, self._tell = opener, keep, tell
        self._ended: list[BrowserSession] = []
        self._count = 0
        self._trouble: dict[str, str] = {}
        self._closed = False
        self._opening: dict[str, float] = {}
        self._looking = asyncio.Lock()

    def started(self, test: str) -> None:
        """The worker begins a test."""
        self.current = test

    async def open(self, body: object) -> BrowserSession:
        """A new session, fresh and for this worker alone. Raises WebDriverError."""
        try:
            want = wanted(self.browser, self._opener.browser(self.browser), body)
        except ValueError as error:
            raise WebDriverError("invalid argument", str(error)) from None
        self.said.update(dict.fromkeys(want.said))
        self._close_forgotten()
        began = time.monotonic()
        test, self._opening[self.current] = self.current, began
        try:
            driver = await self._opener.take(self.browser, want)
        except (CannotOpen, OSError) as error:
            self._trouble[test] = str(error)
            raise WebDriverError("session not created", str(error)) from None
        except WebDriverError as error:
            self._trouble[test] = error.message
            raise
        finally:
            self._opening.pop(test, None)
        if self._closed:
            self._opener.release(driver)
            raise WebDriverError("session not created", "the worker that asked for it is gone")
        if want.timeouts:
            try:
                await value_of(driver, "POST", "timeouts", want.timeouts)
            except WebDriverError:
                self._opener.release(driver)
                raise
            except OSError as error:
                self._opener.release(driver)
                raise WebDriverError("session not created", str(error)) from None
        self._count += 1
        session = BrowserSession(driver, self.browser, self._count, self._keep, self._tell)
        session.opened, session.opened_in = began, test
        session.record(*find("POST", "")[:1], "open a session", 200, None, began, self.current)
        self.sessions[driver.session] = session
        return session

    def _close_forgotten(self) -> None:
        """Sessions that a test opened, and that outlived it, when the next one opens its own."""
        for name, session in list(self.sessions.items()):
            if session.opened_in and session.opened_in != self.current:
                self.said[f"{session.opened_in} left its session open; it was closed"] = None
                self._opener.release(self.sessions.pop(name).driver, self._looking)

    async def end(self, session: BrowserSession) -> None:
        """The suite ended a session: it is gone for the suite, and stays for a look."""
        self.sessions.pop(session.driver.session, None)
        began = time.monotonic()
        session.record(*find("DELETE", "")[:1], "end the session", 200, None, began, self.current)
        session.over = True
        if self.current and self._keep != OFF:
            self._ended.append(session)
        else:
            self._opener.release(session.driver, self._looking)

    async def finish(self, test: str, *, bad: bool) -> Left:
        """A test is over: look at its pages if it went wrong, and let go of what it ended."""
        if self.current == test:
            self.current = ""
        ended, self._ended = self._ended, []
        left = Left(unopened=self._trouble.pop(test, ""))
        if began := self._opening.pop(test, 0.0):
            seconds = time.monotonic() - began
            left.unopened = f"browser '{self.browser}' was still not open after {seconds:.0f} s"
        try:
            async with self._looking:
                for session in [*ended, *self.sessions.values()]:
                    if seen := session.tests.pop(test, None):
                        await self._look(session, seen, test, left, bad=bad)
        finally:
            for session in ended:
                self._opener.release(session.driver)
        self._opener.test_over(self.browser)
        return left

    async def _look(
        self, session: BrowserSession, seen: SessionEvidence, test: str, left: Left, *, bad: bool
    ) -> None:
        left.lost = left.lost or session.lost
        if bad or self._keep == ALL:
            why = "when its session ended" if session.over else "when the test ended"
            await session.look(test, seen, why)
            left.seen.append((session.label, seen))
            left.waited += [seen.waited] if seen.waited else []

    def close(self, worker: str) -> None:
        """The worker is gone: close what it left open."""
        self._closed = True
        if self.sessions and worker:
            count = len(self.sessions)
            plural = "sessions" if count > 1 else "session"
            self.said[f"{worker} left {count} {plural} open; closed at its end"] = None
        for session in [*self.sessions.values(), *self._ended]:
            self._opener.release(session.driver)
        self.sessions.clear()
        self._ended.clear()
