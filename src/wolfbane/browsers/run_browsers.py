"""The browsers of a run: the broker, started when the first suite needs it, and its findings."""

from __future__ import annotations

import asyncio
import io
from collections import Counter
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

from wolfbane.browsers.evidence_policy import FAILURES
from wolfbane.browsers.status import look_for
from wolfbane.events import Commanded, Event
from wolfbane.kinds.suite import Suite
from wolfbane.model import Evidence, Outcome, Test
from wolfbane.planning import Plan
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:
    from wolfbane.browsers.broker import Broker
    from wolfbane.browsers.command_log import BrowserCommand
    from wolfbane.browsers.programs import Starter
    from wolfbane.browsers.sessions import SessionEvidence
    from wolfbane.browsers.snapshots import Snapshot
    from wolfbane.browsers.worker_endpoints import Left, WorkerEndpoint

PROTOCOL = "protocol"
_FRAME = 800
"""Milliseconds that each picture of a filmstrip is shown."""
Keep = Callable[[str, str, str | bytes], Evidence]


class RunBrowsers:
    """Everything about browsers in one run. Nothing is imported for suites without any."""

    def __init__(
        self, workspace: Workspace, keep: str = FAILURES, *, visible: bool = False,
        tell: Callable[[Event], None] | None = None,
    ) -> None:  # fmt: skip
        self._workspace, self._keep, self._visible, self._tell = workspace, keep, visible, tell
        self._broker: Broker | None = None
        self._opening = asyncio.Lock()

    async def _open(self, starter: Starter) -> Broker:
        from wolfbane.browsers.broker import Broker

        async with self._opening:
            if self._broker is None:
                broker = Broker(
                    self._workspace, starter, self._keep, visible=self._visible, tell=self._hear
                )
                await broker.open()
                self._broker = broker
        return self._broker

    def _hear(self, command: BrowserCommand) -> None:
        if self._tell is not None:
            self._tell(
                Commanded(
                    command.test, command.session, command.sentence, command.answer,
                    round(command.seconds, 6),
                )
            )  # fmt: skip

    async def plan(self, starter: Starter, plan: Plan, jobs: int) -> None:
        """Open the first browsers ahead."""
        counts = Counter(test.browser for test in plan.tests if test.browser)
        if counts:
            broker = await self._open(starter)
            first = {batch.browser for batch in plan.batches[:jobs] if batch.browser}
            broker.plan(counts, first)

    async def endpoint(
        self, starter: Starter, suite: Suite, browser: str
    ) -> tuple[WorkerEndpoint | None, dict[str, str]]:
        """A worker's place at the broker, and its variables; none for suites without browsers."""
        if not browser:
            return None, {}
        broker = await self._open(starter)
        return broker.endpoint(suite, browser)

    def dismiss(self, endpoint: WorkerEndpoint | None, suite: Suite) -> None:
        """A worker is gone: close what it left open."""
        if endpoint is not None and self._broker is not None:
            self._broker.dismiss(endpoint, f"suite {suite.name}")

    def absent(self, names: Iterable[str]) -> dict[str, str]:
        """Why browsers cannot be used here, by name."""
        found = {}
        for name in names:
            if name:
                [here] = look_for(self._workspace, [name], versions=False)
                found.update({name: here.problem} if here.problem else {})
        return found

    async def judged(
        self, endpoint: WorkerEndpoint, test: Test, outcome: Outcome, message: str, keep: Keep
    ) -> tuple[Outcome, str, list[Evidence]]:
        """A test's outcome and message, corrected by what its browser says, and its evidence."""
        bad = outcome.is_bad or outcome is Outcome.BLOCKED
        left = await endpoint.finish(test.worker_address, bad=bad)
        if bad:
            outcome, message = _explained(outcome, message, left)
        kept = [
            keep(test.address, kind, content)
            for label, seen in left.seen
            for kind, content in _evidence(label, seen)
        ]
        return outcome, message, kept

    @property
    def versions(self) -> dict[str, str]:
        """What the browsers that were opened call themselves, by name."""
        return dict(self._broker.opener.versions) if self._broker else {}

    def said(self) -> list[str]:
        """What people should know about the run's browsers."""
        return self._broker.said() if self._broker else []

    async def close(self) -> None:
        """Close them all."""
        if self._broker is not None:
            await self._broker.close()


def _explained(outcome: Outcome, message: str, left: Left) -> tuple[Outcome, str]:
    words = [message, *left.waited]
    if left.unopened:
        outcome, words = Outcome.BLOCKED, [left.unopened]
    elif left.lost:
        outcome, words = Outcome.ERRORED, [left.lost, *words]
    return outcome, "\n".join(filter(None, words))


def _evidence(label: str, seen: SessionEvidence) -> Iterable[tuple[str, str | bytes]]:
    lines = [f"{c.at:9.3f} s  {c}" for c in seen.commands]
    for shot in seen.snapshots:
        lines += ["", f"{shot.why}: {_place(shot)}"]
        lines += [f"  title: {shot.title}"] if shot.title else []
        if shot.picture:
            yield "screenshot", shot.picture
        if shot.source:
            yield "page", shot.source
        if shot.console:
            yield "console", "\n".join(shot.console) + "\n"
    yield "protocol", "\n".join([f"session {label}", *lines]) + "\n"
    if len(seen.frames) > 1:
        yield "filmstrip", _animated(seen.frames)


def _place(shot: Snapshot) -> str:
    return f"a dialog says '{shot.dialog}'" if shot.dialog else shot.url


def _animated(frames: list[bytes]) -> bytes:
    """Pictures one after the other, as one animated image."""
    from PIL import Image

    pictures: list[Any] = [Image.open(io.BytesIO(frame)).convert("RGB") for frame in frames]
    made = io.BytesIO()
    pictures[0].save(
        made, "GIF", save_all=True, append_images=pictures[1:], duration=_FRAME, loop=0
    )
    return made.getvalue()
