"""Requests batches from the main process, one per slot, and runs them as in any other run."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable
from typing import Any

from msgspec.structs import replace

from wolfbane.cluster.messages import (
    AttemptEnded,
    BatchOver,
    CoreMessage,
    MachineJob,
    MachineMessage,
    NoMore,
    RunBatch,
    Told,
    Unplanned,
    WantBatch,
)
from wolfbane.execution.batch_run import BatchRun
from wolfbane.execution.findings import Findings
from wolfbane.execution.retries import Retries
from wolfbane.execution.scheduler import Scheduler
from wolfbane.model import Result, Test
from wolfbane.planning.plan import Batch
from wolfbane.setup.run_context import RunContext
from wolfbane.workers.pool import Slot


async def run_batches(
    context: RunContext,
    job: MachineJob,
    incoming: asyncio.Queue[CoreMessage | None],
    send: Callable[[MachineMessage], None],
) -> None:
    """Run batches from the main process until there are no more."""
    await MachineScheduler(context, job, incoming, send=send).work()


class MachineScheduler(Scheduler):
    """Runs the batches from the main process, and sends back all results."""

    def __init__(
        self,
        context: RunContext,
        job: MachineJob,
        incoming: asyncio.Queue[CoreMessage | None],
        send: Callable[[MachineMessage], None],
    ) -> None:
        super().__init__(
            context=context,
            timeout=job.request.timeout,
            tell=lambda event: send(Told(event)),
            finished=lambda result, extra: send(Unplanned(self._mine(result), extra)),
            files=job.files,
            retries=Retries(context.workspace, 0),
            findings=Findings(),
        )
        self._name, self._incoming, self._send = job.name, incoming, send
        self._orders: dict[int, asyncio.Queue[RunBatch | NoMore]] = {}
        self._numbers: dict[int, int] = {}

    async def work(self) -> None:
        """Request batches in every slot until there are no more."""
        slots = self.context.pool.slots
        self._orders = {slot.number: asyncio.Queue() for slot in slots}
        hearing = asyncio.create_task(self._hear())
        try:
            await self.context.pool.each(self._serve)
        finally:
            hearing.cancel()

    async def _hear(self) -> None:
        while (message := await self._incoming.get()) is not None:
            if isinstance(message, RunBatch | NoMore):
                self._orders[message.slot].put_nowait(message)

    async def _serve(self, slot: Slot) -> None:
        orders = self._orders[slot.number]
        while True:
            if orders.empty():
                self._send(WantBatch(slot.number, idle=True))
            order = await orders.get()
            if isinstance(order, NoMore):
                break
            if orders.empty():  # the next one may be on its way meanwhile
                self._send(WantBatch(slot.number, idle=False))
            batch = order.batch
            self._numbers[id(batch)] = order.number
            self._handed_over(batch, order.handed)
            if batch.target != slot.target:
                await self.close_all(slot)
                await slot.turn_to(batch.target)
            await BatchRun(self, slot, batch).run()
            self._send_end(order.number, batch)
        await self.close_all(slot)

    def ended(self, test: Test, result: Result, batch: Batch) -> None:
        """An attempt has ended: the main process decides whether the test runs again."""
        self._send(AttemptEnded(self._numbers[id(batch)], self._mine(result)))

    def over(self, batch: Batch) -> None:
        """A batch has ended: :meth:`_send_end` reports it when all its data is known."""

    def give_up(self, tests: Iterable[Test]) -> None:
        """Planned tests that no longer exist: the main process knows them."""

    def _mine(self, result: Result) -> Result:
        return replace(result, machine=self._name)

    def _handed_over(self, batch: Batch, handed: dict[str, Any]) -> None:
        self.handed_in(batch).update(handed)

    def _send_end(self, number: int, batch: Batch) -> None:
        findings, self.findings = self.findings, Findings()
        self._send(
            BatchOver(
                number=number,
                handed=self.handed_in(batch),
                met=findings.met,
                missed=findings.missed,
                covered=dict(findings.covered),
                damage=findings.damage,
            )
        )
