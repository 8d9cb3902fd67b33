"""The workers of a machine that run a part of a load test.

The main process uses them as if they were local.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from wolfbane.cluster.messages import (
    AskWorker,
    CoreMessage,
    MachineJob,
    MachineMessage,
    NoMore,
    StartWorkers,
    TellWorker,
    WorkerAnswered,
    WorkerSaid,
    WorkersStarted,
)
from wolfbane.setup.run_context import RunContext
from wolfbane.workers.launcher import Unstartable
from wolfbane.workers.protocol import WorkerMessage
from wolfbane.workers.worker import Worker


async def relay_workers(
    context: RunContext,
    job: MachineJob,
    incoming: asyncio.Queue[CoreMessage | None],
    send: Callable[[MachineMessage], None],
) -> None:
    """Forward requests of the main process to workers, and their messages back, until the end."""
    workers: dict[int, Worker] = {}

    async def ask(order: AskWorker) -> None:
        def listen(message: WorkerMessage) -> None:
            send(WorkerSaid(order.slot, message))

        end = await workers[order.slot].ask(order.request, order.until, listen, order.limit)
        send(WorkerAnswered(order.slot, end))

    async with asyncio.TaskGroup() as group:
        while not isinstance(order := await incoming.get(), NoMore | None):
            if isinstance(order, StartWorkers):
                suite = job.workspace.suite(order.suite)
                slots = context.pool.slots
                try:
                    started = await asyncio.gather(
                        *(slot.worker_at(order.target, suite) for slot in slots)
                    )
                except Unstartable as error:
                    send(WorkersStarted(str(error)))
                    continue
                workers |= {slot.number: each for slot, each in zip(slots, started, strict=True)}
                send(WorkersStarted(""))
            elif isinstance(order, AskWorker):
                group.create_task(ask(order))
            elif isinstance(order, TellWorker):
                workers[order.slot].tell(order.message)
