"""The workload of a load test: users instead of batches of tests."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from wolfbane.environments.resolution import hosts_for_load
from wolfbane.errors import BlockedError, InputError, Problem
from wolfbane.events.load_events import LoadError, LoadStarted
from wolfbane.events.run_events import Exercised
from wolfbane.execution.run_state import RunState
from wolfbane.execution.session import Session
from wolfbane.execution.this_machine import ThisMachine
from wolfbane.execution.workload import Executor, LoadProcess, NoWorkersError
from wolfbane.kinds.suite import Suite
from wolfbane.load.hosts import check_hosts
from wolfbane.load.limits import check_steps
from wolfbane.load.load_request import LoadRequest
from wolfbane.load.measured import Measured
from wolfbane.load.outcomes import limit_results, test_results, together
from wolfbane.load.profiles import weights_of
from wolfbane.model import Outcome, Test
from wolfbane.planning.plan import Plan
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.workers.load_messages import (
    LoadedMessage,
    LoadErrorMessage,
    LoadLookedMessage,
    LoadSecondMessage,
)
from wolfbane.workers.message_data import ending
from wolfbane.workers.protocol import CoveredMessage, SecretMessage, WorkerMessage
from wolfbane.workers.worker import End

_LONGEST_SILENCE = 60.0

Wrong = Sequence[tuple[str, str, str]]
"""Tests that cannot run: address, outcome, message."""


async def preview(
    inputs: RunInputs, run: str, load: LoadRequest, executor: Executor, folder: Path
) -> tuple[LoadStarted, Wrong]:
    """A preview of a load test, and the tests that cannot run. No request is sent.

    Workflows are read on this machine, and the processes of the ``executor`` are counted. Raises
    NothingChosen, InputError and BlockedError.
    """
    here = ThisMachine(inputs)
    workload = LoadWorkload(load, folder)
    session = Session(inputs, run, executor=here, workload=workload)
    async with session.planned(folder) as plan:
        started, wrong = await workload.look(session.state, here, plan)
    if machines := await executor.load_machines(started.users):
        processes = sum(machine.processes for machine in machines)
        started = replace(started, processes=processes, machines=tuple(machines))
    return started, wrong


class LoadWorkload:
    """Runs the workflows of a plan with many concurrent users."""

    has_order = False

    def __init__(self, load: LoadRequest, folder: Path) -> None:
        self._load, self._folder = load, folder
        self._processes: list[LoadProcess] = []
        self._measured: Measured | None = None

    async def look(
        self, state: RunState, executor: Executor, plan: Plan
    ) -> tuple[LoadStarted, Wrong]:
        """Read the workflows without sending a request. Raises InputError."""
        suite = _only_suite(plan.tests, state.workspace.suites)
        users = self._load.shape().users
        async with executor.load_processes(state, plan, suite, users=users) as processes:
            return await self._made_ready(state, plan, processes)

    async def carry_out(self, state: RunState, executor: Executor, plan: Plan) -> int:
        """Run the load test; returns the number of workflows that did not start.

        Raises InputError and BlockedError, unless the run was interrupted.
        """
        if not plan.tests:  # all of them are blocked: what they need is missing
            return 0
        try:
            suite = _only_suite(plan.tests, state.workspace.suites)
            users = self._load.shape().users
            async with executor.load_processes(state, plan, suite, users=users) as processes:
                return await self._carry_out(state, executor, plan, processes=processes)
        except (InputError, BlockedError) as error:
            if state.interrupted and self._measured is None:  # the processes were not ready yet
                return len(plan.tests)
            if not isinstance(error, NoWorkersError):
                raise
            assert state.context is not None
            for test in plan.tests:
                end = ending(Outcome.BLOCKED, str(error))
                state.finished(state.context.results.make(test, end, ""))
            return 0

    async def _carry_out(
        self, state: RunState, executor: Executor, plan: Plan, processes: list[LoadProcess]
    ) -> int:
        started, wrong = await self._made_ready(state, plan, processes)
        if state.interrupted:
            return len(plan.tests)
        assert state.context is not None
        results, limits = state.context.results, self._load.read_limits
        by_address = {test.worker_address: test for test in plan.tests}
        for address, outcome, message in wrong:
            end = ending(Outcome(outcome), message)
            state.finished(results.make(by_address.pop(address), end, ""))
        state.tell(started)
        measured = self._measured = Measured(
            load=self._load, folder=self._folder, tell=state.tell, stop=self._stop_all
        )
        measured.processes = len(processes)
        ends = await self._driven(state, started, measured, delay=executor.start_delay)
        figures = measured.finish(ends)
        by_test = together(ends)
        for result in test_results(results, by_address, by_test, limits=limits, figures=figures):
            state.finished(result)
        if by_test and not state.interrupted:  # of nothing every limit would hold
            suite = state.workspace.suite(plan.tests[0].suite)
            for result in limit_results(results, suite, limits, figures=figures):
                state.finished(result)
        # With a mix, a workflow may have no weight, or its turn may never have come.
        return 0 if self._weights else len(by_address.keys() - by_test.keys())

    async def _made_ready(
        self, state: RunState, plan: Plan, processes: list[LoadProcess]
    ) -> tuple[LoadStarted, Wrong]:
        """Let the processes read the tests. Raises InputError."""
        self._processes = processes
        looks: list[LoadLookedMessage] = []

        def listen(message: WorkerMessage) -> None:
            if isinstance(message, LoadLookedMessage):
                looks.append(message)

        self._weights = weights_of(self._load.mix, plan.tests)
        request = {"type": "load-look", "tests": [[test.path, test.name] for test in plan.tests]}
        ended = await asyncio.gather(
            *(
                each.worker.ask(request, LoadLookedMessage, listen, _LONGEST_SILENCE)
                for each in processes
            )
        )
        if not all(each.end is End.DONE for each in ended):
            reason = next(each.message for each in ended if each.end is not End.DONE)
            raise InputError(Problem(f"cannot prepare the load test: {reason}"))
        environment = state.inputs.environments[0].name
        # Services of a machine listen at ports of their own.
        addresses = tuple(dict.fromkeys(each for look in looks for each in look.addresses))
        allowed = hosts_for_load(state.workspace, environment)
        self._hosts = check_hosts(addresses, allowed, environment)
        look = looks[0]
        check_steps([*self._load.read_limits, *self._load.read_stops], look.keys)
        return self._start_event(addresses, look), look.wrong

    def _start_event(self, addresses: tuple[str, ...], look: LoadLookedMessage) -> LoadStarted:
        load, shape = self._load, self._load.shape()
        return LoadStarted(
            points=shape.points,
            open=shape.open,
            users=shape.users,
            until=shape.until,
            loops=shape.loops,
            pause=load.pauses(),
            order=load.order,
            seed=load.settled_seed(),
            processes=len(self._processes),
            contract=load.contract_share(),
            addresses=addresses,
            limits=load.limits,
            samples=load.samples,
            keys=look.keys,
            machines=tuple(dict.fromkeys(p.machine for p in self._processes if p.machine)),
        )

    async def _driven(
        self, state: RunState, started: LoadStarted, measured: Measured, delay: float
    ) -> list[LoadedMessage]:
        """Let every process run its share."""
        ends: list[LoadedMessage] = []
        assert state.context is not None
        context, begins = state.context, time.time() + delay
        order = self._order(state, started)

        def listen(message: WorkerMessage) -> None:
            match message:
                case LoadSecondMessage():
                    measured.second(message, context.mask)
                case LoadErrorMessage():
                    _report_error(state, measured, message)
                case LoadedMessage():
                    ends.append(message)
                case SecretMessage():
                    context.mask.learn(message.text)
                case CoveredMessage():
                    key = Exercised(
                        source=message.source,
                        operation=message.operation,
                        status=message.status,
                        media=message.media,
                    )
                    state.findings.covered[key] += message.count

        async def drive(number: int, process: LoadProcess) -> None:
            share = {"number": number, "count": len(self._processes)}
            own = {**order, "share": share, "start_at": begins + process.ahead}
            done = await process.worker.ask(own, LoadedMessage, listen, _LONGEST_SILENCE)
            if done.end is not End.DONE:
                measured.lost(done.message or done.end.value)

        await asyncio.gather(*(drive(n, each) for n, each in enumerate(self._processes)))
        for end in ends:
            if end.refused:
                check_hosts([end.refused], self._hosts, state.inputs.environments[0].name)
        return ends

    def _order(self, state: RunState, started: LoadStarted) -> dict[str, Any]:
        """The request to a process, without its share."""
        path = started.keys[0][0].partition("#")[0]
        suite = state.workspace.suite(state.inventory.files[path].suite)
        return {
            "type": "load",
            "points": started.points,
            "users": started.users,
            "open": started.open,
            "until": started.until,
            "loops": started.loops,
            "pause": started.pause,
            "shuffled": started.order == "random",
            "seed": started.seed,
            "evenly": self._load.arrivals == "even",
            "samples": started.samples,
            "contract": started.contract,
            "allowed": self._hosts,
            "rows": self._load.rows,
            "weights": self._weights,
            "limit": state.request.timeout or state.workspace.limit(suite),
        }

    def stop(self) -> bool:
        """The users stop, and the results are reported. False before the processes have started."""
        self._stop_all()
        return bool(self._processes)

    def _stop_all(self) -> None:
        for process in self._processes:
            process.worker.tell({"type": "stop"})

    def verdict(self, state: RunState, verdict: tuple[int, str]) -> tuple[int, str]:
        """Also 1 if the load test was stopped early, or if a process was lost."""
        measured = self._measured
        if measured is None:
            return verdict
        if measured.stopped_by and not state.interrupted:
            return 1, f"stopped early: {measured.stopped_by}"
        if verdict[0] == 0 and measured.losses:
            return 1, measured.losses[0]
        return verdict


def _report_error(state: RunState, measured: Measured, message: LoadErrorMessage) -> None:
    """Report an error, with its exchange as a file; each kind once for all processes."""
    if not measured.is_new_error(message):
        return
    assert state.context is not None
    path = ""
    if message.exchange:
        name = f"{message.workflow} {message.step}"
        path = state.context.evidence.keep(name, "har", message.exchange).path
    mask = state.context.mask
    state.tell(
        LoadError(
            workflow=message.workflow,
            step=message.step,
            kind=mask(message.kind),
            message=mask(message.message),
            exchange=path,
        )
    )


def _only_suite(tests: Sequence[Test], suites: Sequence[Suite]) -> Suite:
    """The suite of the tests. Raises InputError if there are several."""
    names = list(dict.fromkeys(test.suite for test in tests))
    if len(names) > 1:
        message = f"a load test runs workflows of one suite; {len(names)} suites were selected"
        raise InputError(Problem(message, hint=f"choose one: --suite {names[0]}"))
    return next(suite for suite in suites if suite.name == names[0])
