"""Distributes the batches of a run to machines on request."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Iterable
from pathlib import Path

from msgspec.structs import replace

from wolfbane.cluster.here.engine import MachineLink, MachineLost
from wolfbane.cluster.messages import (
    AttemptEnded,
    BatchOver,
    EvidencePiece,
    MachineFailed,
    MachineMessage,
    MachineOver,
    MachineReady,
    NoMore,
    RunBatch,
    StopNow,
    Told,
    Unplanned,
    WantBatch,
)
from wolfbane.events.run_events import TestRetried
from wolfbane.execution.scheduler import Scheduler
from wolfbane.model import Outcome, Test, variant
from wolfbane.planning.plan import Batch, Plan, once_more
from wolfbane.workers.message_data import ending

_NEWS = (WantBatch, BatchOver, MachineReady)
"""Messages after which there may be batches to distribute."""


_PLENTY = 16
"""Number of batches per machine that counts as many."""


class _OnMachine:
    """The work of one machine, and the suites that it cannot run."""

    def __init__(self, link: MachineLink) -> None:
        self.link = link
        self.batches: dict[int, tuple[Batch, dict[str, Test]]] = {}
        self.waiting: dict[int, bool] = {}
        """Slots that request a batch, and whether they are idle."""
        self.orders: asyncio.Queue[RunBatch | NoMore] = asyncio.Queue()
        """Messages for the machine: no other machine waits for a slow or lost machine."""
        self.ready: MachineReady | None = None
        self.begun = False
        self.began = 0.0
        """Seconds of the run at which the machine's own clock started."""

    def why_not(self, batch: Batch) -> str:
        """The reason why the machine cannot run a batch, or an empty text."""
        if self.ready is None:
            return "the machine is not ready"
        lacks = self.ready.no_browser.get(batch.browser, "")
        return self.ready.why_not(batch.target, batch.suite) or lacks

    async def send_orders(self) -> None:
        """Send the orders. If the machine is lost, :meth:`MachineLink.messages` also reports it."""
        with contextlib.suppress(MachineLost):
            while True:
                await self.link.send(await self.orders.get())


class ClusterScheduler(Scheduler):
    """Distributes batches to machines, and accounts for every test even if a machine is lost."""

    def prepare(self, folder: Path, begin: Callable[[MachineLink], Awaitable[None]]) -> None:
        """``folder`` belongs to the run; ``begin`` sends the run to a machine."""
        self._folder, self._begin = folder, begin
        self._machines: dict[str, _OnMachine] = {}
        self._numbers = 0
        self._ran_on: dict[str, str] = {}
        """The address of the machine where each test last ran."""
        self._stranded: dict[str, str] = {}
        """Tests that were lost with their machine and have not run again, with the reason."""
        self._troubles: dict[tuple[str, str, str], str] = {}
        """Problems with suites of targets on machines."""
        self.warnings: list[str] = []
        self.browsers: dict[str, str] = {}

    def start(self, plan: Plan) -> None:
        """Take the batches of a plan."""
        self.queue = list(plan.batches)

    @property
    def done(self) -> bool:
        """Whether no work is left and no machine is busy."""
        return not (self.queue or self._again or any(m.batches for m in self._machines.values()))

    async def serve(self, link: MachineLink) -> None:
        """Exchange messages with a machine until it is done or lost."""
        machine = self._machines[link.address] = _OnMachine(link)
        try:
            await self._begin(link)
            machine.began, machine.begun = self.context.began(0.0), True
            async with asyncio.TaskGroup() as tasks:
                sending = tasks.create_task(machine.send_orders())
                await self._converse(machine)
                sending.cancel()
        except* MachineLost as errors:
            self._lost(machine, str(errors.exceptions[0]))
        finally:
            del self._machines[link.address]
            self._hand_out()

    async def _converse(self, machine: _OnMachine) -> None:
        async for message in machine.link.messages():
            self._hear(machine, message)
            if isinstance(message, _NEWS):
                self._hand_out()
        if machine.batches:
            raise MachineLost("the process on the machine ended")

    async def stop(self) -> None:
        """End the run on every machine."""
        for machine in list(self._machines.values()):
            with contextlib.suppress(MachineLost):
                await machine.link.send(StopNow())
            await machine.link.close()

    def give_up(self, tests: Iterable[Test]) -> None:
        """Like :meth:`Scheduler.give_up`; a test that was lost with its machine is blocked."""
        for test in tests:
            if message := self._stranded.get(test.address):
                end = ending(Outcome.BLOCKED, f"{message}, and the test was not run again")
                result = self.context.results.make(test, end, "")
                self._finished(self._retries.whole(result), False)
            else:
                super().give_up([test])

    def close(self) -> int:
        """Account for the tests that did not run. Returns how many tests did not start."""
        self._warn_of_troubles()
        left = [test for batch in self.queue if not batch.again for test in batch.tests]
        for batch in (*self.queue, *self._again):
            if batch.again:
                self.give_up(batch.tests)
        return self.unrun + len(left)

    def _warn_of_troubles(self) -> None:
        """One warning for all suites that a machine could not run for the same reason."""
        suites: dict[tuple[str, str], list[str]] = {}
        for (target, suite, machine), why in self._troubles.items():
            suites.setdefault((machine, why), []).append(variant(suite, "", target))
        for (machine, why), names in suites.items():
            self.warnings.append(f"machine {machine} ran no tests of {', '.join(names)}: {why}")

    def _hear(self, machine: _OnMachine, message: MachineMessage) -> None:
        if isinstance(message, AttemptEnded):
            batch, left = machine.batches[message.number]
            test = left.pop(message.result.address)
            began = round(message.result.began + machine.began, 3)
            self._stranded.pop(test.address, None)
            self._ran_on[test.address] = machine.link.address
            self.ended(test, replace(message.result, began=began), batch)
        elif isinstance(message, WantBatch):
            machine.waiting[message.slot] = message.idle
        elif isinstance(message, BatchOver):
            self._batch_over(machine, message)
        elif isinstance(message, Told):
            self.tell(message.event)
        elif isinstance(message, Unplanned):
            self.finished(message.result, message.extra)
        elif isinstance(message, EvidencePiece):
            # A machine names its files; it cannot choose another folder.
            path = self._folder / "evidence" / Path(message.path).name
            path.parent.mkdir(exist_ok=True)
            with path.open("ab") as file:
                file.write(message.data)
        elif isinstance(message, MachineReady):
            machine.ready = message
            for (target, suite), why in message.blocked.items():
                if suite not in message.missing:
                    self._troubles[target, suite, machine.link.name] = why
        elif isinstance(message, MachineOver):
            self.warnings += message.warnings
            self.browsers |= message.browsers
        elif isinstance(message, MachineFailed):
            raise MachineLost(message.reason)

    def _batch_over(self, machine: _OnMachine, message: BatchOver) -> None:
        batch, left = machine.batches.pop(message.number)
        self.handed_in(batch).update(message.handed)
        self.over(batch)
        for path, tests in message.met.items():
            self.findings.met.setdefault(path, {}).update(tests)
        for path, names in message.missed.items():
            self.findings.missed.setdefault(path, set()).update(names)
        self.findings.covered.update(message.covered)
        self.findings.damage += message.damage
        missed = message.missed.get(batch.path, set())
        if lost := [test for test in left.values() if test.name not in missed]:
            self.unrun += len(lost)

    def _hand_out(self) -> None:
        """Give every waiting slot a batch that its machine can run; None when all is done."""
        for machine in self._machines.values():
            for slot, idle in list(machine.waiting.items() if machine.ready else ()):
                # One that is busy gets a batch ahead only where there are many: the last ones
                # go to whoever is free first.
                plenty = len(self.queue) > _PLENTY * len(self._machines)
                batch = self._next_for(machine) if idle or plenty else None
                if batch is None:
                    continue
                del machine.waiting[slot]
                self._numbers += 1
                machine.batches[self._numbers] = batch, {t.address: t for t in batch.tests}
                order = RunBatch(
                    slot=slot, number=self._numbers, batch=batch, handed=self.handed_in(batch)
                )
                machine.orders.put_nowait(order)
        self._give_up_what_nobody_can()
        if self.done:
            for machine in self._machines.values():
                for slot in machine.waiting:
                    machine.orders.put_nowait(NoMore(slot))
                machine.waiting.clear()

    def _next_for(self, machine: _OnMachine) -> Batch | None:
        """The first batch that a machine can run."""
        if self._pool.stopping:
            return None
        for batches in (self.queue, self._again if not self.queue else []):
            for batch in batches:
                if not machine.why_not(batch) and self._may_run_on(machine, batch):
                    batches.remove(batch)
                    return batch
        return None

    def _may_run_on(self, machine: _OnMachine, batch: Batch) -> bool:
        """Whether it is the machine's turn: a test runs again where it failed.

        The services there have the state that the test saw; on another machine, it would be a new
        test.
        """
        before = None
        if batch.again:
            before = self._ran_on.get(batch.tests[0].address)
        return before in (None, machine.link.address) or before not in self._machines

    def _give_up_what_nobody_can(self) -> None:
        """Suites that no machine can run are blocked, with the reasons."""
        machines = list(self._machines.values())
        if not machines or not all(machine.ready for machine in machines):
            return
        for batch in [*self.queue, *self._again]:
            reasons = {machine.link.name: machine.why_not(batch) for machine in machines}
            if all(reasons.values()):
                (self.queue if batch in self.queue else self._again).remove(batch)
                whys = "; ".join(f"{name}: {why}" for name, why in reasons.items())
                end = ending(Outcome.BLOCKED, f"no machine can run this suite: {whys}")
                for test in batch.tests:
                    self._finished(self.context.results.make(test, end, ""), False)
                for machine in machines:  # the tests say it
                    self._troubles.pop((batch.target, batch.suite, machine.link.name), None)

    def _lost(self, machine: _OnMachine, why: str) -> None:
        """A machine was lost: its unfinished tests run again on other machines.

        If the run is being stopped, the machine was ended: these tests do not run, or keep the
        result of their last attempt.
        """
        if self._pool.stopping:
            for batch, left in machine.batches.values():
                if batch.again:
                    self.give_up(left.values())
                else:
                    self.unrun += len(left)
                self.over(batch)
            return
        message = f"lost the connection to machine {machine.link.name}"
        if machine.begun:
            self.warnings.append(f"{message}: {why}")
        else:
            self.warnings.append(f"cannot use machine {machine.link.name}: {why}")
        for batch, left in machine.batches.values():
            tests = list(left.values())
            if not tests:
                self.over(batch)
                continue
            for test in tests:
                end = ending(Outcome.CRASHED, message)
                result = replace(
                    self.context.results.make(test, end, ""), machine=machine.link.name
                )
                self._stranded[test.address] = message
                self.tell(TestRetried(self._retries.lost(test, result)))
            self.over(batch)
            self.queue.insert(0, once_more(tests, batch.seconds))
