"""The browsers of a run: the broker, which starts when a suite needs it, and its findings."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING

import msgspec

from wolfbane.browsers.status import look_for
from wolfbane.events.run_events import Commanded, Event
from wolfbane.kinds.suite import Suite
from wolfbane.model import Evidence, Outcome, Test
from wolfbane.planning.plan import Plan
from wolfbane.workspace.settings import Workspace
from wolfbane.workspace.vocabulary import FAILURES

if TYPE_CHECKING:
    from wolfbane.browsers.broker import Broker
    from wolfbane.browsers.engines.programs import Starter
    from wolfbane.browsers.evidence.command_log import BrowserCommand
    from wolfbane.browsers.sessions import BrowserSession
    from wolfbane.browsers.worker_endpoints import Leftovers, WorkerEndpoint

PROTOCOL = "protocol"
Keep = Callable[[str, str, str | bytes, str], Evidence]


class KeptOpen(msgspec.Struct, frozen=True):
    """A browser that stays open after a test: its page, and the address of the session."""

    test: str
    browser: str
    url: str
    driver: str


class BrowserVerdict(msgspec.Struct, frozen=True):
    """The outcome of a test in a browser. ``secrets`` were typed into password fields."""

    outcome: Outcome
    message: str
    secrets: frozenset[str]
    evidence: list[Evidence] = []


Pause = Callable[[KeptOpen, Callable[[], None]], None]
"""Asks the user to look at a browser. The second argument is called when the run can continue."""


class RunBrowsers:
    """All browser data of one run. Nothing is imported for suites without browsers."""

    def __init__(
        self,
        workspace: Workspace,
        keep: str = FAILURES,
        *,
        visible: bool = False,
        pace: float = 0.0,
        tell: Callable[[Event], None] | None = None,
        pause: Pause | None = None,
    ) -> None:
        self._pace, self._pause = pace, pause
        self._go_on = asyncio.Event()
        self._has_held = False
        self._workspace, self._keep, self._visible, self._tell = workspace, keep, visible, tell
        self._broker: Broker | None = None
        self._opening = asyncio.Lock()

    async def _open(self, starter: Starter) -> Broker:
        from wolfbane.browsers.broker import Broker

        async with self._opening:
            if self._broker is None:
                broker = Broker(
                    self._workspace,
                    starter,
                    self._keep,
                    visible=self._visible,
                    pace=self._pace,
                    tell=self._hear,
                    hold=self._hold,
                )
                await broker.open()
                self._broker = broker
        return self._broker

    def _hear(self, command: BrowserCommand) -> None:
        if self._tell is not None:
            self._tell(
                Commanded(
                    address=command.test,
                    browser=command.session,
                    sentence=command.sentence,
                    answer=command.answer,
                    seconds=round(command.seconds, 6),
                )
            )

    async def _hold(self, session: BrowserSession, test: str) -> None:
        """Keep the browser of the first failed test open until the user continues."""
        if self._pause is None or self._has_held:
            return
        self._has_held = True
        url = next((shot.url for shot in reversed(session.seen(test).snapshots) if shot.url), "")
        url, address = session.secrets.mask(url), session.driver.address
        self._pause(
            KeptOpen(test=test, browser=session.browser, url=url, driver=address), self.go_on
        )
        await self._go_on.wait()

    def go_on(self) -> None:
        """Close the browser that is kept open, and continue."""
        self._go_on.set()

    async def plan(self, starter: Starter, plan: Plan, jobs: int) -> None:
        """Open the first browsers in advance."""
        counts = Counter(test.browser for test in plan.tests if test.browser)
        if counts:
            broker = await self._open(starter)
            first = {batch.browser for batch in plan.batches[:jobs] if batch.browser}
            broker.plan(counts, first)

    async def endpoint(
        self, starter: Starter, suite: Suite, browser: str
    ) -> tuple[WorkerEndpoint | None, dict[str, str]]:
        """A worker's endpoint at the broker, and its variables; none without browsers."""
        if not browser:
            return None, {}
        broker = await self._open(starter)
        return broker.endpoint(suite, browser)

    def dismiss(self, endpoint: WorkerEndpoint | None, suite: Suite) -> None:
        """A worker has ended: close the sessions that it did not close."""
        if endpoint is not None and self._broker is not None:
            self._broker.dismiss(endpoint, f"suite {suite.name}")

    def absent(self, names: Iterable[str]) -> dict[str, str]:
        """The reasons why browsers cannot be used on this machine, by name."""
        reasons = {}
        for name in names:
            if name:
                [here] = look_for(self._workspace, [name], versions=False)
                reasons.update({name: here.problem} if here.problem else {})
        return reasons

    async def judged(
        self, endpoint: WorkerEndpoint, test: Test, outcome: Outcome, message: str, keep: Keep
    ) -> BrowserVerdict:
        """A test's outcome and message, corrected with the browser's data, and its evidence."""
        bad = outcome.is_failure
        left = await endpoint.finish(test.worker_address, bad=bad)
        if left.lost and outcome is Outcome.PASSED:
            # The test caught the error, so it did not see what it should have seen.
            problem = f"{left.lost}, and the test passed without it"
            return BrowserVerdict(Outcome.ERRORED, problem, left.secrets)
        if not left.seen and not bad:
            return BrowserVerdict(outcome, message, left.secrets)
        if bad:
            outcome, message = _explained(outcome, message, left)
        from wolfbane.browsers.evidence.kept_evidence import evidence_of

        kept = []
        for session, seen in left.seen:
            # Pictures take a while to encode: other tests go on meanwhile.
            files = await asyncio.to_thread(list, evidence_of(session, seen))
            kept += [keep(test.address, each.kind, each.content, each.name) for each in files]
        return BrowserVerdict(outcome=outcome, message=message, secrets=left.secrets, evidence=kept)

    @property
    def versions(self) -> dict[str, str]:
        """The names and versions that the browsers of this run report."""
        if self._broker:
            return dict(self._broker.opener.versions)
        return {}

    def said(self) -> list[str]:
        """Messages for the user about the browsers of the run."""
        if self._broker:
            return self._broker.said()
        return []

    async def close(self) -> None:
        """Close them all."""
        if self._broker is not None:
            await self._broker.close()


def _explained(outcome: Outcome, message: str, left: Leftovers) -> tuple[Outcome, str]:
    parts = [message, *left.waited]
    if left.unopened:
        outcome, parts = Outcome.BLOCKED, [left.unopened]
    elif left.lost:
        outcome, parts = Outcome.ERRORED, [left.lost, *parts]
    return outcome, "\n".join(filter(None, parts))
