"""Runs on the machines of a cluster: planned and recorded here, executed there."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import AbstractAsyncContextManager, AsyncExitStack, asynccontextmanager
from functools import partial
from itertools import chain, zip_longest

from wolfbane.basis.this_machine import available_cores
from wolfbane.cluster.here.cluster import Cluster
from wolfbane.cluster.here.cluster_scheduler import ClusterScheduler
from wolfbane.cluster.here.engine import MachineLink, MachineLost
from wolfbane.cluster.here.machine_part import MachinePart
from wolfbane.errors import BlockedError
from wolfbane.events.load_events import LoadMachine
from wolfbane.execution.repeats import attempts_of
from wolfbane.execution.run_state import RunState
from wolfbane.execution.workload import LoadProcess, NoWorkersError
from wolfbane.kinds.suite import Suite
from wolfbane.planning.plan import Plan
from wolfbane.setup.preparation import Preparation, Prepared
from wolfbane.setup.run_inputs import RunInputs

_LOOK = 2.0
"""Seconds between two requests for new machines."""


class ClusterExecutor:
    """The executor of a run on the machines of a cluster engine.

    Raises InputError for an address that cannot be used, and for a workspace that must not be sent.
    """

    start_delay = 1.0

    def __init__(self, inputs: RunInputs, run: str) -> None:
        self._inputs, self._request = inputs, inputs.request
        self._cluster = Cluster(inputs, run)
        self._parts: list[MachinePart] = []
        self.address = self._cluster.address
        self.jobs = inputs.request.jobs or available_cores()  # for what is collected here
        self.trouble = ""

    def connected(self) -> AbstractAsyncContextManager[object]:
        """The connection to the scheduler. Raises BlockedError if there is none."""
        return self._cluster

    async def prepare(self, preparation: Preparation, *, start: bool = True) -> Prepared:
        """Select the tests. Services start, and browsers are found, on the machines."""
        return await self._cluster.prepare(preparation, self._inputs.known)

    async def run_tests(self, state: RunState, plan: Plan) -> int:
        """Distribute the batches of a plan; returns the number of tests that did not start."""
        context = state.context
        assert context is not None
        scheduler = ClusterScheduler(
            context=context,
            timeout=self._request.timeout,
            tell=state.tell,
            finished=state.finished,
            files=state.inventory.files,
            retries=attempts_of(state.workspace, self._request),
            findings=state.findings,
        )
        scheduler.prepare(context.folder, partial(self._begin_on, state, plan))
        scheduler.start(plan)
        await self._serve_all(scheduler, state)
        unrun = scheduler.close()
        state.warnings += [*self._cluster.warnings, *scheduler.warnings]
        context.browsers.versions.update(scheduler.browsers)
        return unrun

    async def _serve_all(self, scheduler: ClusterScheduler, state: RunState) -> None:
        """Serve all machines, also those that join, until all work is done."""
        assert state.context is not None
        pool = state.context.pool
        serving: dict[str, asyncio.Task[None]] = {}
        try:
            while not (scheduler.done or pool.stopping or self.trouble):
                try:
                    machines = await self._cluster.machines()
                except MachineLost as error:
                    self.trouble = str(error)
                    break
                links = await asyncio.gather(
                    *(
                        self._cluster.link(address, name, slots)
                        for address, (name, slots) in machines.items()
                        if address not in serving
                    )
                )
                for link in links:
                    if link is not None:
                        serving[link.address] = asyncio.create_task(scheduler.serve(link))
                working = [task for task in serving.values() if not task.done()]
                if not working and self._cluster.answered:
                    if not scheduler.done:  # it may have ended while machines were looked for
                        self.trouble = "no machine is available for the run any longer"
                    break
                await _first_end(working)
            if not (pool.stopping or self.trouble):
                await asyncio.gather(*serving.values())
        finally:
            await scheduler.stop()
            for task in serving.values():
                task.cancel()
            await asyncio.gather(*serving.values(), return_exceptions=True)

    async def _begin_on(self, state: RunState, plan: Plan, link: MachineLink) -> None:
        assert state.context is not None
        await self._cluster.begin(link, state.context, plan, self._request.jobs or link.slots)

    @asynccontextmanager
    async def load_processes(
        self, state: RunState, plan: Plan, suite: Suite, users: int
    ) -> AsyncIterator[list[LoadProcess]]:
        """Processes on every machine that can be used. Raises NoWorkersError without one."""
        try:
            async with AsyncExitStack() as served:
                links = {} if state.interrupted else await self._links()
                slots = {
                    address: self._request.jobs or link.slots for address, link in links.items()
                }
                counts = _spread(slots, users)
                self._parts = [MachinePart(links[a], n, state.tell) for a, n in counts.items()]
                processes = await asyncio.gather(
                    *(
                        self._start_on(part, state, plan, suite=suite, served=served)
                        for part in self._parts
                    )
                )
                if not any(processes):
                    reasons = "; ".join(self._cluster.warnings)
                    raise NoWorkersError(f"no machine can run the load test: {reasons}")
                yield list(chain.from_iterable(processes))
        finally:
            state.warnings += self._cluster.warnings
            state.warnings += [warning for part in self._parts for warning in part.warnings]

    async def load_machines(self, users: int) -> Sequence[LoadMachine]:
        """The machines of the cluster, each with its number of processes."""
        async with self._cluster:
            try:
                machines = await self._cluster.machines()
            except MachineLost as error:
                raise BlockedError(str(error)) from None
        slots = {name: self._request.jobs or slots for name, slots in sorted(machines.values())}
        return [LoadMachine(name, count) for name, count in _spread(slots, users).items()]

    def stop(self) -> None:
        """End everything on the machines: the run was interrupted before they started."""
        for part in self._parts:
            part.stop()

    async def _links(self) -> Mapping[str, MachineLink]:
        try:
            machines = await self._cluster.machines()
        except MachineLost as error:
            raise NoWorkersError(str(error)) from None
        links = await asyncio.gather(
            *(
                self._cluster.link(address, name, slots)
                for address, (name, slots) in machines.items()
            )
        )
        usable = [link for link in links if link is not None]
        return {link.address: link for link in sorted(usable, key=lambda link: link.name)}

    async def _start_on(
        self, part: MachinePart, state: RunState, plan: Plan, suite: Suite, served: AsyncExitStack
    ) -> list[LoadProcess]:
        """The processes of a machine; none, and a warning, if it cannot be used."""
        assert state.context is not None
        link = part.link
        try:
            await self._cluster.begin(link, state.context, plan, len(part.workers), load=True)
            await served.enter_async_context(part.served())
            problem = await part.start(suite.name, plan.tests[0].target)
            ahead, error = await link.clock_offset()
        except MachineLost as lost:
            problem = str(lost)
        if problem:
            if not state.interrupted:  # else it was ended, not lost
                self._cluster.warnings.append(f"machine {link.name} is not used: {problem}")
            return []
        machine = LoadMachine(link.name, len(part.workers), error)
        return [LoadProcess(worker, machine, ahead) for worker in part.workers.values()]


async def _first_end(working: Sequence[asyncio.Task[None]]) -> None:
    """Wait until the next request for machines, or until a machine has ended."""
    if not working:  # the scheduler is silent: it may know others when it answers
        await asyncio.sleep(_LOOK)
        return
    ended, _ = await asyncio.wait(working, timeout=_LOOK, return_when=asyncio.FIRST_COMPLETED)
    for task in ended:
        task.result()  # a lost machine is no error: whatever else comes here is


def _spread(slots: Mapping[str, int], users: int) -> dict[str, int]:
    """The number of processes per machine: at most its slots, and in total at most the users."""
    lists = ([machine] * count for machine, count in slots.items())
    turns = [each for each in chain(*zip_longest(*lists)) if each is not None][:users]
    return {machine: turns.count(machine) for machine in slots if machine in turns}
