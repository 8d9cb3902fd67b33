"""A fixed number of parallel slots, each with one worker per suite."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Coroutine, Iterable, Iterator
from types import TracebackType

from wolfbane.kinds.protocols import process_scope
from wolfbane.kinds.suite import Suite
from wolfbane.workers.launcher import Unstartable, WorkerLauncher
from wolfbane.workers.protocol import HelloMessage, WorkerMessage
from wolfbane.workers.worker import START_LIMIT, End, Worker

TICK = 0.05
"""Seconds between two checks of the workers' time limits and output."""


class Slot:
    """One of the parallel slots."""

    def __init__(self, pool: Pool, number: int) -> None:
        self.pool = pool
        self.number = number
        self._started = 0
        self.target = ""
        self._workers: dict[str, Worker] = {}
        self._coming: dict[str, tuple[str, asyncio.Task[Worker]]] = {}

    async def worker(self, suite: Suite, browser: str = "") -> Worker:
        """This slot's worker for a suite, started if necessary. Raises Unstartable."""
        worker = self._workers.get(suite.name)
        if worker is not None and worker.browser != browser:
            self._retire(suite)
            worker = None
        if worker is None or worker.gone:
            _, coming = self._coming.pop(suite.name, ("", None))
            worker = await (coming or self._start(suite, browser))
            self._workers[suite.name] = worker
            if worker.browser != browser:
                return await self.worker(suite, browser)
        return worker

    async def worker_at(self, target: str, suite: Suite) -> Worker:
        """This slot's worker for a suite in an environment. Raises Unstartable."""
        await self.turn_to(target)
        return await self.worker(suite)

    def _retire(self, suite: Suite) -> None:
        worker = self._workers.pop(suite.name)
        worker.retire()
        self.pool.bury(worker)

    def _start(self, suite: Suite, browser: str) -> asyncio.Task[Worker]:
        self._started += 1
        member = f"{self.number}.{self._started}"
        return asyncio.create_task(self.pool.start(suite, self.target, browser, member=member))

    async def turn_to(self, target: str) -> None:
        """Work in another environment: end the workers of the previous one."""
        if target == self.target:
            return
        await self.close()
        self._coming.clear()
        for worker in self._workers.values():
            worker.retire()
            self.pool.bury(worker)
        self._workers.clear()
        self.target = target

    def expect(self, suite: Suite, browser: str = "") -> None:
        """Another file of the suite will follow: if each needs a worker, start the next one."""
        if _one_for_each_file(suite) and suite.name not in self._coming:
            self._coming[suite.name] = browser, self._start(suite, browser)

    def running(self, suites: Iterable[Suite]) -> Iterator[tuple[Suite, Worker]]:
        """The live workers of these suites."""
        for suite in suites:
            worker = self._workers.get(suite.name)
            if worker is not None and not worker.gone:
                yield suite, worker

    def release(self, suite: Suite) -> None:
        """A request has ended: if each request needs a separate worker, end this one."""
        if _one_for_each_file(suite) and suite.name in self._workers:
            self._retire(suite)

    async def close(self) -> None:
        """Start nothing more."""
        coming = [task for _, task in self._coming.values()]
        for task in coming:
            task.cancel()
        await asyncio.gather(*coming, return_exceptions=True)

    def renew(self, suite: Suite) -> None:
        """Use a new worker for the next request of a suite."""
        if suite.name in self._workers:
            self._retire(suite)

    def has_loaded(self, suite: str, path: str, browser: str = "") -> bool:
        """Whether a worker of this slot has already loaded this file."""
        worker = self._workers.get(suite)
        here = worker is not None and not worker.gone and worker.browser == browser
        return here and worker is not None and path in worker.loaded

    async def drop(self, suite: str) -> None:
        """Remove the worker of a suite that died."""
        await self._workers.pop(suite).bury()


class Pool:
    """Supervises workers, and ends all their processes."""

    def __init__(self, launcher: WorkerLauncher, jobs: int) -> None:
        self.launcher = launcher
        self.slots = [Slot(self, number) for number in range(1, jobs + 1)]
        self.stopping = False
        self._workers: list[Worker] = []
        self._keepers: dict[str, Slot] = {}
        self._burials: set[asyncio.Task[None]] = set()

    async def __aenter__(self) -> Pool:
        await self.launcher.__aenter__()
        self._ticking = asyncio.create_task(self._tick())
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.finish()
        self._ticking.cancel()
        await self.launcher.__aexit__(kind, error, trace)

    async def finish(self) -> None:
        """End every worker; their last messages are still processed."""
        for slot in self.slots:
            await slot.close()
        workers, self._workers = self._workers, []
        for worker in workers:
            worker.retire()
        await asyncio.gather(*self._burials, *(worker.bury() for worker in workers))

    def stop(self) -> None:
        """Start nothing new, and end every worker now."""
        self.stopping = True
        for worker in self._workers:
            worker.stop()

    def bury(self, worker: Worker) -> None:
        """Handle a retired worker's end while others continue."""
        self._workers.remove(worker)
        burial = asyncio.create_task(worker.bury())
        self._burials.add(burial)
        burial.add_done_callback(self._burials.discard)

    async def each(self, work: Callable[[Slot], Coroutine[None, None, None]]) -> None:
        """Do the work in every slot in parallel."""
        async with asyncio.TaskGroup() as group:
            for slot in self.slots:
                group.create_task(work(slot))

    def may_serve(self, slot: Slot, suite: Suite) -> bool:
        """Whether a slot may run files of a suite now.

        A suite with a single process belongs to the slot that first asks.
        """
        if process_scope(suite) != "suite":
            return True
        return self._keepers.setdefault(suite.name, slot) is slot

    async def start(self, suite: Suite, target: str, browser: str, member: str) -> Worker:
        """A new worker that has said hello. Raises Unstartable."""
        worker = await self.launcher.launch(suite, target, browser, member)
        self._workers.append(worker)
        outcome = await worker.ask(None, HelloMessage, _ignore, START_LIMIT)
        if outcome.end is End.DONE:
            return worker
        printed = worker.printed().strip()
        why = f"the worker did not start ({outcome.message or outcome.end.value}) {printed}".strip()
        if outcome.end is End.STOPPED:
            raise Unstartable(why)
        raise self.launcher.give_up(suite, target, why)

    async def _tick(self) -> None:
        while True:
            await asyncio.sleep(TICK)
            now = time.monotonic()
            for worker in self._workers:
                worker.tick(now)


def _one_for_each_file(suite: Suite) -> bool:
    return process_scope(suite) == "file"


def _ignore(message: WorkerMessage) -> None:
    pass
