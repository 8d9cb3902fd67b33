"""Runs the batches of a plan in the pool, and accounts for every test."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from wolfbane.events.run_events import Event
from wolfbane.execution.batch_run import AFTER_CRASH, BatchRun
from wolfbane.execution.findings import Findings
from wolfbane.execution.launcher_names import LauncherNames
from wolfbane.execution.repeats import Repeats
from wolfbane.execution.retries import Retries
from wolfbane.kinds.protocols import HasClosingHooks
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.model import Outcome, Result, Test, TestFile
from wolfbane.planning.plan import Batch, Plan, once_more
from wolfbane.setup.run_context import RunContext
from wolfbane.workers.message_data import Ending, ending
from wolfbane.workers.pool import Slot
from wolfbane.workers.protocol import ClosedMessage, FinishedMessage, OutputMessage, WorkerMessage
from wolfbane.workers.worker import End, Worker

Place = tuple[str, str, str, str]


class Scheduler:
    """Executes a plan. Every test gets a result or is counted as not run."""

    def __init__(
        self,
        *,
        context: RunContext,
        timeout: float | None,
        tell: Callable[[Event], None],
        finished: Callable[[Result, bool], None],
        files: Mapping[str, TestFile],
        retries: Retries | Repeats,
        findings: Findings,
        names: LauncherNames | None = None,
    ) -> None:
        self.context, self.timeout, self.files = context, timeout, files
        self.findings, self.names = findings, names or LauncherNames(files)
        self._pool, self._workspace = context.pool, context.workspace
        self._tell, self._finished = tell, finished
        self.queue: list[Batch] = []
        self._again: list[Batch] = []
        self._kept: dict[int, list[Test]] = {}
        """By the identity of the batch: parts of one file run at the same time."""
        self._handed: dict[Place, dict[str, Any]] = {}
        self._retries = retries
        self.unrun = 0

    def tell(self, event: Event) -> None:
        """An event of the run."""
        self._tell(event)

    def finished(self, result: Result, extra: bool) -> None:
        """An unplanned result (``extra``), or the last result of a test."""
        self._finished(result, extra)

    async def carry_out(self, plan: Plan) -> int:
        """Run every batch; returns the number of tests that did not run because the run was
        stopped.
        """
        self.queue = list(plan.batches)
        await self._pool.each(self._work)
        left = [test for batch in self.queue if not batch.again for test in batch.tests]
        for batch in (*self.queue, *self._again):
            if batch.again:
                self.give_up(batch.tests)
        return self.unrun + len(left)

    def give_up(self, tests: Iterable[Test]) -> None:
        """Tests that should have run again but did not, with their last result."""
        for test in tests:
            self._finished(self._retries.given_up(test), False)

    async def _work(self, slot: Slot) -> None:
        while not self._pool.stopping:
            if not self.queue and self._again:
                self.queue.append(self._again.pop(0))
            if not self.queue:
                break
            batch = self._next(slot)
            if batch is None:
                break
            self.queue.remove(batch)
            if batch.target != slot.target:
                await self.close_all(slot)
                await slot.turn_to(batch.target)
            await BatchRun(self, slot, batch).run()
        await self.close_all(slot)

    def ended(self, test: Test, result: Result, batch: Batch) -> None:
        """An attempt of a planned test has ended: run it again, or report its outcome."""
        kept = self._kept.setdefault(id(batch), [])
        if result.outcome is Outcome.BLOCKED and any(other.name in test.needs for other in kept):
            self._retries.wait(result)
            kept.append(test)
            return
        attempt = self._retries.again(test, result)
        if attempt is None:
            self._finished(self._retries.whole(result), False)
            return
        self._tell(self._retries.event(attempt))
        if any(other.needs for other in batch.tests):
            kept.append(test)
        else:
            self._put((test,), result.seconds)

    def over(self, batch: Batch) -> None:
        """A batch has ended: retries of tests that need each other run together.

        Not earlier: a test that waits for the next attempt of another test would be too late.
        """
        if kept := self._kept.pop(id(batch), []):
            self._put(kept, batch.seconds)

    def _put(self, tests: Sequence[Test], seconds: float) -> None:
        batch = once_more(tests, seconds, fresh=self._retries.fresh)
        if self._retries.at_once:
            self.queue.insert(0, batch)
        else:
            self._again.append(batch)

    def handed_in(self, batch: Batch) -> dict[str, Any]:
        """The values that tests of a file passed to tests that need them, by name, kept for new
        workers.
        """
        return self._handed.setdefault(_place(batch), {})

    async def close_all(self, slot: Slot) -> None:
        for suite, worker in slot.running(self._workspace.suites):
            has_hooks = isinstance(find_kind(suite.kind), HasClosingHooks)
            if has_hooks and not self._pool.stopping:
                await self._close(suite, worker, slot.target)
                if worker.dead:
                    await slot.drop(suite.name)

    async def _close(self, suite: Suite, worker: Worker, target: str) -> None:
        """Let a worker run its hooks after all tests."""
        limit = self.timeout or self._workspace.limit(suite)
        printed: list[str] = []

        def report(path: str, name: str, end: Ending, output: str) -> None:
            test = Test(
                suite=suite.name, kind=suite.kind, path=path, name=name, exact=True, target=target
            )
            result = self.context.results.make(test, end, output)
            self._finished(replace(result, again=("--suite", suite.name)), True)

        def listen(message: WorkerMessage) -> None:
            if isinstance(message, OutputMessage):
                printed.append(message.text)
            elif isinstance(message, FinishedMessage):
                path, _, name = message.address.partition("#")
                report(path, name, message, output="".join(printed))

        close = await worker.ask({"type": "close"}, ClosedMessage, listen, limit)
        if close.end not in (End.DONE, End.STOPPED):
            problem = f"in the last hooks: {close.message or close.end.value}"
            end = ending(AFTER_CRASH[close.end], problem)
            report(suite.paths[0], "after run", end, output=worker.printed())

    def _next(self, slot: Slot) -> Batch | None:
        """The first batch whose file this slot has loaded; otherwise, one that no other slot has
        loaded. None if all that is left belongs to other slots.

        Batches for the slot's own target come first.
        """
        suites = {batch.suite for batch in self.queue}
        kept = {s for s in suites if not self._pool.may_serve(slot, self._workspace.suite(s))}
        mine = [b for b in self.queue if b.suite not in kept]
        if not mine:
            return None
        ready = [b for b in mine if b.target == slot.target]
        ready = ready or [b for b in mine if b.target == mine[0].target]
        others = [other for other in self._pool.slots if other is not slot]
        free = None
        for batch in ready:
            key = batch.suite, batch.path, batch.browser
            if slot.has_loaded(*key):
                return batch
            if free is None and not any(other.has_loaded(*key) for other in others):
                free = batch
        return free or ready[0]


def _place(batch: Batch) -> Place:
    return batch.suite, batch.path, batch.target, batch.browser
