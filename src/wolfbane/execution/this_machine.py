"""Runs on this machine: batches of tests, and the processes of a load test."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence
from contextlib import AbstractAsyncContextManager, asynccontextmanager, nullcontext

from wolfbane.basis.this_machine import available_cores
from wolfbane.errors import InputError, Problem
from wolfbane.events.load_events import LoadMachine
from wolfbane.execution.launcher_comparison import Comparisons
from wolfbane.execution.repeats import attempts_of
from wolfbane.execution.run_state import RunState
from wolfbane.execution.scheduler import Scheduler
from wolfbane.execution.workload import LoadProcess
from wolfbane.kinds.suite import Suite
from wolfbane.planning.plan import Plan
from wolfbane.setup.preparation import Preparation, Prepared
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.workers.launcher import Unstartable


class ThisMachine:
    """The executor of a run on this machine."""

    address, trouble = "", ""
    start_delay = 0.3

    def __init__(self, inputs: RunInputs) -> None:
        self._inputs = inputs
        self.jobs = inputs.request.jobs or 1

    def connected(self) -> AbstractAsyncContextManager[None]:
        """Nothing has to be connected."""
        return nullcontext()

    async def prepare(self, preparation: Preparation, *, start: bool = True) -> Prepared:
        """Select the tests, after builds and readiness checks."""
        request, times = self._inputs.request, self._inputs.known.times
        return await preparation.prepare(request.build, times, request.timeout, start=start)

    async def run_tests(self, state: RunState, plan: Plan) -> int:
        """Run the batches of a plan; returns the number of tests that did not start."""
        context, request = state.context, state.request
        assert context is not None
        comparisons = Comparisons(state.inventory, plan, state.inputs.choice.leave_out)
        scheduler = Scheduler(
            context=context,
            timeout=request.timeout,
            tell=state.tell,
            finished=state.finished,
            files=state.inventory.files,
            retries=attempts_of(state.workspace, request),
            findings=state.findings,
            names=comparisons.names,
        )
        await context.browsers.plan(context.launcher.group, plan, self.jobs)
        unrun = await scheduler.carry_out(plan)
        state.warnings += comparisons.end(state.unplanned, complete=not unrun)
        return unrun

    @asynccontextmanager
    async def load_processes(
        self, state: RunState, plan: Plan, suite: Suite, users: int
    ) -> AsyncIterator[list[LoadProcess]]:
        """Workers of the pool: at most one for each user. Raises InputError."""
        assert state.context is not None
        count = min(state.request.jobs or available_cores(), users)
        target, slots = plan.tests[0].target, state.context.pool.slots[:count]
        try:
            workers = await asyncio.gather(*(slot.worker_at(target, suite) for slot in slots))
        except Unstartable as error:
            raise InputError(Problem(f"suite '{suite.name}': {error}")) from None
        yield [LoadProcess(worker) for worker in workers]

    async def load_machines(self, users: int) -> Sequence[LoadMachine]:
        """None: the processes are those of this machine."""
        return ()

    def stop(self) -> None:
        """The pool has been stopped: nothing else runs here."""
