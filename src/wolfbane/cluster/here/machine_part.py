"""One machine's part of a load test.

Its workers are used through the cluster as if they were local.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager

from wolfbane.cluster.here.engine import MachineLink, MachineLost
from wolfbane.cluster.messages import (
    AskWorker,
    CoreMessage,
    MachineFailed,
    MachineOver,
    MachineReady,
    NoMore,
    StartWorkers,
    StopNow,
    TellWorker,
    Told,
    WorkerAnswered,
    WorkerSaid,
    WorkersStarted,
)
from wolfbane.events.run_events import Event
from wolfbane.workers.channel import Request
from wolfbane.workers.message_data import Message
from wolfbane.workers.protocol import WorkerMessage
from wolfbane.workers.worker import End, RequestEnd

_FIRST_SLOT = 1


class MachineWorker:
    """A worker on a machine. It takes requests as :class:`Worker` does."""

    def __init__(self, part: MachinePart, slot: int) -> None:
        self._part, self._slot = part, slot
        self._answer: asyncio.Future[RequestEnd] | None = None
        self._listen: Callable[[WorkerMessage], None] = lambda message: None

    async def ask(
        self,
        request: Request,
        until: type[Message],
        listen: Callable[[WorkerMessage], None],
        limit: float,
    ) -> RequestEnd:
        """Send a request and wait for a message of the type ``until``; see :meth:`Worker.ask`."""
        if self._part.lost:
            return RequestEnd(End.CRASHED, message=self._part.lost)
        self._listen = listen
        self._answer = asyncio.get_running_loop().create_future()
        self._part.post(AskWorker(slot=self._slot, request=dict(request), until=until, limit=limit))
        return await self._answer

    def tell(self, message: Request) -> None:
        """Send a message in addition to the request in progress."""
        self._part.post(TellWorker(self._slot, dict(message)))

    def hear(self, message: WorkerMessage) -> None:
        """Process a message of the worker."""
        self._listen(message)

    def end(self, end: RequestEnd) -> None:
        """The request in progress has ended, if there is one."""
        if self._answer is not None and not self._answer.done():
            self._answer.set_result(end)


class MachinePart:
    """A machine and its workers. ``lost`` is the reason why it no longer answers."""

    def __init__(self, link: MachineLink, count: int, tell: Callable[[Event], None]) -> None:
        self.link = link
        slots = range(_FIRST_SLOT, _FIRST_SLOT + count)
        self.workers = {slot: MachineWorker(self, slot) for slot in slots}
        self.lost = ""
        self.warnings: list[str] = []
        self._tell = tell
        self._orders: asyncio.Queue[CoreMessage] = asyncio.Queue()
        self._ready: asyncio.Future[str] = asyncio.get_running_loop().create_future()

    def post(self, order: CoreMessage) -> None:
        """Send an order soon, after the earlier orders."""
        self._orders.put_nowait(order)

    async def start(self, suite: str, target: str) -> str:
        """Start the workers when the machine is ready; returns the reason if that failed."""
        self._suite, self._target = suite, target
        return await self._ready

    @asynccontextmanager
    async def served(self) -> AsyncIterator[None]:
        """Receive messages of the machine and send orders to it; at the end, its part has ended."""
        sending = asyncio.create_task(self._send())
        hearing = asyncio.create_task(self._serve())
        try:
            yield
            self.post(NoMore(0))
            await hearing
        finally:
            for task in (sending, hearing):
                task.cancel()
            await asyncio.gather(sending, hearing, return_exceptions=True)
            await self.link.close()

    def stop(self) -> None:
        """End everything on the machine now: the load test was interrupted before it started."""
        self.post(StopNow())

    async def _send(self) -> None:
        try:
            while True:
                await self.link.send(await self._orders.get())
        except MachineLost as error:
            self._lose(str(error))

    async def _serve(self) -> None:
        try:
            async for message in self.link.messages():
                self._hear(message)
            self._lose("the process ended")
        except MachineLost as error:
            self._lose(str(error))

    def _hear(self, message: object) -> None:
        if isinstance(message, WorkerSaid):
            self.workers[message.slot].hear(message.message)
        elif isinstance(message, WorkerAnswered):
            self.workers[message.slot].end(message.end)
        elif isinstance(message, Told):
            self._tell(message.event)
        elif isinstance(message, MachineReady):
            if why := message.why_not(self._target, self._suite):
                self._settle(why)
            else:
                self.post(StartWorkers(self._suite, self._target))
        elif isinstance(message, WorkersStarted):
            self._settle(message.problem)
        elif isinstance(message, MachineOver):
            self.warnings += message.warnings
        elif isinstance(message, MachineFailed):
            raise MachineLost(message.reason)

    def _settle(self, problem: str) -> None:
        if not self._ready.done():
            self._ready.set_result(problem)

    def _lose(self, why: str) -> None:
        self.lost = self.lost or f"lost the connection to machine {self.link.name}: {why}"
        self._settle(why)
        for worker in self.workers.values():
            worker.end(RequestEnd(End.CRASHED, message=self.lost))
