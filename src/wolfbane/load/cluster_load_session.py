"""A load test on several machines: users are distributed over them, and the measurements are
merged.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from contextlib import AsyncExitStack
from itertools import chain, zip_longest
from pathlib import Path

from msgspec.structs import replace

from wolfbane.cluster.here.cluster import Cluster
from wolfbane.cluster.here.engine import MachineLink, MachineLost
from wolfbane.errors import BlockedError
from wolfbane.events.load_events import LoadMachine, LoadStarted
from wolfbane.events.run_events import RunStarted
from wolfbane.execution.run_start import RunStart
from wolfbane.kinds.suite import Suite
from wolfbane.load.load_request import LoadRequest
from wolfbane.load.load_session import LoadProcess, LoadSession
from wolfbane.load.machine_part import MachinePart
from wolfbane.model import Outcome
from wolfbane.planning.plan import Plan
from wolfbane.setup.preparation import Preparation, Prepared
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.workers.message_data import ending


class ClusterLoadSession(LoadSession):
    """One load test from selection to exit code, on the machines of a cluster engine."""

    soon = 1.0

    def __init__(self, inputs: RunInputs, run: str, load: LoadRequest, folder: Path) -> None:
        super().__init__(inputs, run, load, folder)
        self._cluster = Cluster(inputs, run)
        self._parts: list[MachinePart] = []

    async def look(self, folder: Path) -> tuple[LoadStarted, Sequence[tuple[str, str, str]]]:
        """Like :meth:`LoadSession.look`: workflows are read locally, machines are counted there."""
        here = LoadSession(self.inputs, self.run, self.load, folder)
        started, wrong = await here.look(folder)
        async with self._cluster:
            try:
                found = await self._cluster.machines()
            except MachineLost as error:
                raise BlockedError(str(error)) from None
        slots = {name: self.request.jobs or slots for name, slots in sorted(found.values())}
        counts = _spread(slots, started.users)
        machines = tuple(LoadMachine(name, count) for name, count in counts.items())
        return replace(started, processes=sum(counts.values()), machines=machines), wrong

    async def execute_async(self, folder: Path) -> int:
        """Like :meth:`Session.execute`. Raises BlockedError if no machine can be used."""
        async with self._cluster:
            return await super().execute_async(folder)

    def interrupt(self) -> None:
        """Once: the users stop, and the results are reported. Twice: end immediately."""
        starting = not (self._interrupted or self._processes)
        super().interrupt()
        if starting:
            for part in self._parts:
                part.stop()

    async def _prepared(self, preparation: Preparation, *, start: bool = True) -> Prepared:
        return await self._cluster.prepare(preparation, self.known)

    def _start_event(self, start: RunStart) -> RunStarted:
        return replace(super()._start_event(start), on=self._cluster.address)

    async def _carry_out(self, context: RunContext, plan: Plan) -> int:
        async with AsyncExitStack() as self._served:
            try:
                unrun = await super()._carry_out(context, plan)
            except BlockedError as error:
                unrun = 0
                for test in plan.tests:
                    end = ending(Outcome.BLOCKED, str(error))
                    self._finished(context.results.make(test, end, ""))
        self._late_warnings += self._cluster.warnings
        self._late_warnings += [words for part in self._parts for words in part.warnings]
        return unrun

    async def _start(
        self, context: RunContext, plan: Plan, suite: Suite, users: int
    ) -> list[LoadProcess]:
        """Start processes on every machine that can be used. Raises BlockedError without one."""
        links = {} if self._interrupted else await self._links()
        slots = {place: self.request.jobs or link.slots for place, link in links.items()}
        counts = _spread(slots, users)
        self._parts = [MachinePart(links[place], n, self._tell) for place, n in counts.items()]
        found = await asyncio.gather(
            *(self._start_on(part, context, plan, suite) for part in self._parts)
        )
        if not any(found):
            raise BlockedError(
                f"no machine can run the load test: {'; '.join(self._cluster.warnings)}"
            )
        return [each for processes in found for each in processes]

    async def _links(self) -> Mapping[str, MachineLink]:
        try:
            found = await self._cluster.machines()
        except MachineLost as error:
            raise BlockedError(str(error)) from None
        links = await asyncio.gather(
            *(self._cluster.link(place, name, slots) for place, (name, slots) in found.items())
        )
        usable = [link for link in links if link is not None]
        return {link.address: link for link in sorted(usable, key=lambda link: link.name)}

    async def _start_on(
        self, part: MachinePart, context: RunContext, plan: Plan, suite: Suite
    ) -> list[LoadProcess]:
        """The processes of a machine; none, and a warning, if it cannot be used."""
        link = part.link
        try:
            await self._cluster.begin(link, context, plan, len(part.workers), load=True)
            await self._served.enter_async_context(part.served())
            problem = await part.start(suite.name, plan.tests[0].target)
            ahead, error = await link.clock_offset()
        except MachineLost as lost:
            problem = str(lost)
        if problem:
            if not self._interrupted:  # else it was ended, not lost
                self._cluster.warnings.append(f"machine {link.name} is not used: {problem}")
            return []
        machine = LoadMachine(link.name, len(part.workers), error)
        return [LoadProcess(worker, machine, ahead) for worker in part.workers.values()]


def _spread(slots: Mapping[str, int], users: int) -> dict[str, int]:
    """The number of processes per machine: at most its slots, and in total at most the users."""
    lists = ([machine] * count for machine, count in slots.items())
    turns = [each for each in chain(*zip_longest(*lists)) if each is not None][:users]
    return {machine: turns.count(machine) for machine in slots if machine in turns}
