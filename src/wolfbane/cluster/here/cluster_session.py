"""A run on several machines: planned and recorded here, executed on the machines."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from wolfbane.basis.this_machine import available_cores
from wolfbane.cluster.here.cluster import Cluster
from wolfbane.cluster.here.cluster_scheduler import ClusterScheduler
from wolfbane.cluster.here.engine import MachineLink, MachineLost
from wolfbane.events.run_events import RunStarted
from wolfbane.execution.repeats import attempts_of
from wolfbane.execution.run_start import RunStart
from wolfbane.execution.session import Session
from wolfbane.planning.plan import Plan
from wolfbane.setup.preparation import Preparation, Prepared
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.run_inputs import RunInputs

_LOOK = 2.0
"""Seconds between two requests for new machines."""


class ClusterSession(Session):
    """One run from selection to exit code, on the machines of a cluster engine."""

    def __init__(self, inputs: RunInputs, run: str) -> None:
        super().__init__(inputs, run)
        self._jobs = self.request.jobs or available_cores()  # for what is collected here
        self._cluster = Cluster(inputs, run)
        self._trouble = ""

    async def execute_async(self, folder: Path) -> int:
        """Like :meth:`Session.execute`. Raises BlockedError if there is no scheduler."""
        async with self._cluster:
            return await super().execute_async(folder)

    async def _prepared(self, preparation: Preparation, *, start: bool = True) -> Prepared:
        return await self._cluster.prepare(preparation, self.known)

    def _start_event(self, start: RunStart) -> RunStarted:
        return replace(super()._start_event(start), on=self._cluster.address)

    async def _scheduled(self, context: RunContext, plan: Plan) -> int:
        scheduler = ClusterScheduler(
            context, self.request.timeout, self._tell, self._finished, self.inventory.files,
            attempts_of(self.workspace, self.request), self._findings,
        )  # fmt: skip
        scheduler.prepare(context.folder, partial(self._begin_on, context, plan))
        scheduler.start(plan)
        await self._serve_all(scheduler, context)
        unrun = scheduler.close()
        self._late_warnings += [*self._cluster.warnings, *scheduler.warnings]
        context.browsers.versions.update(scheduler.browsers)
        return unrun

    def _verdict(self, unrun: int) -> tuple[int, str]:
        code, reason = super()._verdict(unrun)
        if not self._trouble:
            return code, reason
        if code in (0, 3):
            return 4, self._trouble
        return code, "; ".join(filter(None, [reason, self._trouble]))

    async def _serve_all(self, scheduler: ClusterScheduler, context: RunContext) -> None:
        """Serve all machines, also those that join, until all work is done."""
        serving: dict[str, asyncio.Task[None]] = {}
        try:
            while not (scheduler.done or context.pool.stopping or self._trouble):
                try:
                    found = await self._cluster.machines()
                except MachineLost as error:
                    self._trouble = str(error)
                    break
                links = await asyncio.gather(*(
                    self._cluster.link(address, name, slots)
                    for address, (name, slots) in found.items() if address not in serving
                ))  # fmt: skip
                for link in links:
                    if link is not None:
                        serving[link.address] = asyncio.create_task(scheduler.serve(link))
                working = [task for task in serving.values() if not task.done()]
                if not working and self._cluster.answered:
                    if not scheduler.done:  # it may have ended while machines were looked for
                        self._trouble = "no machine is available for the run any longer"
                    break
                await _first_end(working)
            if not (context.pool.stopping or self._trouble):
                await asyncio.gather(*serving.values())
        finally:
            await scheduler.stop()
            for task in serving.values():
                task.cancel()
            await asyncio.gather(*serving.values(), return_exceptions=True)

    async def _begin_on(self, context: RunContext, plan: Plan, link: MachineLink) -> None:
        await self._cluster.begin(link, context, plan, self.request.jobs or link.slots)


async def _first_end(working: Sequence[asyncio.Task[None]]) -> None:
    """Wait until the next request for machines, or until a machine has ended."""
    if not working:  # the scheduler is silent: it may know others when it answers
        await asyncio.sleep(_LOOK)
        return
    ended, _ = await asyncio.wait(working, timeout=_LOOK, return_when=asyncio.FIRST_COMPLETED)
    for task in ended:
        task.result()  # a lost machine is no error: whatever else comes here is
