"""Runs a load test: the same preparation as for a run, then users instead of batches."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple, Protocol

from msgspec.structs import replace

from wolfbane.basis.this_machine import available_cores
from wolfbane.environments.resolution import hosts_for_load
from wolfbane.errors import BlockedError, InputError, Problem
from wolfbane.events.load_events import LoadError, LoadMachine, LoadStarted
from wolfbane.events.run_events import Exercised, RunStarted
from wolfbane.execution.run_start import RunStart
from wolfbane.execution.session import Session
from wolfbane.kinds.suite import Suite
from wolfbane.load.hosts import check_hosts
from wolfbane.load.limits import check_steps
from wolfbane.load.load_request import LoadRequest
from wolfbane.load.measured import Measured
from wolfbane.load.outcomes import limit_results, test_results, together
from wolfbane.load.profiles import weights_of
from wolfbane.model import Outcome, Test
from wolfbane.planning.plan import Plan
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.workers.channel import Request
from wolfbane.workers.launcher import Unstartable
from wolfbane.workers.load_messages import (
    LoadedMessage,
    LoadErrorMessage,
    LoadLookedMessage,
    LoadSecondMessage,
)
from wolfbane.workers.message_data import Message, ending
from wolfbane.workers.protocol import CoveredMessage, SecretMessage, WorkerMessage
from wolfbane.workers.worker import End, RequestEnd

_LONGEST_SILENCE = 60.0


class _Askable(Protocol):
    async def ask(
        self, request: Request, until: type[Message], listen: Callable[[WorkerMessage], None],
        limit: float,
    ) -> RequestEnd: ...  # fmt: skip
    def tell(self, message: Request) -> None: ...


class LoadProcess(NamedTuple):
    """A process that runs a part of a load test: a worker, here or on another machine.

    The clock of its machine is ``ahead`` of the local clock, in seconds.
    """

    worker: _Askable
    machine: LoadMachine | None = None
    ahead: float = 0.0


class LoadSession(Session):
    """One load test, from selection to exit code."""

    soon = 0.3
    """Seconds until the load test starts in all processes at the same time; orders are sent before.
    """

    def __init__(self, inputs: RunInputs, run: str, load: LoadRequest, folder: Path) -> None:
        super().__init__(inputs, run)
        self.load = load
        self._measured = Measured(load, folder, self._tell, self._stop_all)
        self._processes: list[LoadProcess] = []

    async def look(self, folder: Path) -> tuple[LoadStarted, Sequence[tuple[str, str, str]]]:
        """A preview of the load test, and the tests that cannot run: address, outcome, message.

        No request is sent. Raises NothingChosen and InputError.
        """
        context = self._new_context(folder)
        async with context.pool, self._preparation(context) as preparation:
            prepared = await self._prepared(preparation, start=False)
            if not prepared.chosen:
                raise self._nothing_chosen()
            return await self._made_ready(context, self._planned(prepared))

    def interrupt(self) -> None:
        """Once: the users stop, and the results are reported. Twice: end immediately."""
        if self._interrupted:
            raise KeyboardInterrupt
        self._interrupted = True
        if self._processes:
            self._stop_all()
        elif self._context is not None:
            self._context.pool.stop()

    def _stop_all(self) -> None:
        for process in self._processes:
            process.worker.tell({"type": "stop"})

    def _start_event(self, start: RunStart) -> RunStarted:
        """The start of the run; a load test ignores the order of files."""
        return replace(super()._start_event(start), order="")

    async def _carry_out(self, context: RunContext, plan: Plan) -> int:
        if not plan.tests:  # all of them are blocked: what they need is missing
            return 0
        try:
            started, wrong = await self._made_ready(context, plan)
        except (InputError, BlockedError):
            if self._interrupted:  # the processes were ended before they were ready
                return len(plan.tests)
            raise
        if self._interrupted:
            return len(plan.tests)
        by_address = {test.worker_address: test for test in plan.tests}
        for address, outcome, message in wrong:
            end = ending(Outcome(outcome), message)
            self._finished(context.results.make(by_address.pop(address), end, ""))
        self._tell(started)
        ends = await self._driven(context, started)
        figures = self._measured.finish(ends)
        by_test = together(ends)
        for result in test_results(
            context.results, by_address, by_test, self.load.read_limits, figures
        ):
            self._finished(result)
        if by_test and not self._interrupted:  # of nothing every limit would hold
            suite = self.workspace.suite(plan.tests[0].suite)
            for result in limit_results(context.results, suite, self.load.read_limits, figures):
                self._finished(result)
        # With a mix, a workflow may have no weight, or its turn may never have come.
        return 0 if self._weights else len(by_address.keys() - by_test.keys())

    async def _made_ready(
        self, context: RunContext, plan: Plan
    ) -> tuple[LoadStarted, Sequence[tuple[str, str, str]]]:
        """Start the processes and let them read the tests. Raises InputError."""
        suite = _only_suite(plan.tests, self.workspace.suites)
        shape = self.load.shape()
        self._processes = await self._start(context, plan, suite, shape.users)
        looks: list[LoadLookedMessage] = []

        def listen(message: WorkerMessage) -> None:
            if isinstance(message, LoadLookedMessage):
                looks.append(message)

        self._weights = weights_of(self.load.mix, plan.tests)
        names = [[test.path, test.name] for test in plan.tests]
        request = {"type": "load-look", "tests": names}
        ended = await asyncio.gather(*(
            process.worker.ask(request, LoadLookedMessage, listen, _LONGEST_SILENCE)
            for process in self._processes
        ))  # fmt: skip
        if not all(each.end is End.DONE for each in ended):
            words = next(each.words for each in ended if each.end is not End.DONE)
            raise InputError(Problem(f"cannot prepare the load test: {words}"))
        look = looks[0]
        # Services of a machine listen at ports of their own.
        addresses = tuple(dict.fromkeys(each for look in looks for each in look.addresses))
        self._hosts = check_hosts(addresses, self._allowed(), self._environment_name())
        check_steps([*self.load.read_limits, *self.load.read_stops], look.keys)
        load = self.load
        started = LoadStarted(
            shape.points, shape.open, shape.users, shape.until, shape.loops, load.pauses(),
            load.order, load.settled_seed(), len(self._processes), load.contract_share(),
            addresses, load.limits, load.samples, look.keys,
            tuple(dict.fromkeys(each.machine for each in self._processes if each.machine)),
        )  # fmt: skip
        return started, look.wrong

    async def _start(
        self, context: RunContext, plan: Plan, suite: Suite, users: int
    ) -> list[LoadProcess]:
        """Start the processes: at most one for each user. Raises InputError."""
        count = min(self.request.jobs or available_cores(), users)
        target, slots = plan.tests[0].target, context.pool.slots[:count]
        try:
            workers = await asyncio.gather(*(slot.worker_at(target, suite) for slot in slots))
        except Unstartable as error:
            raise InputError(Problem(f"suite '{suite.name}': {error}")) from None
        return [LoadProcess(worker) for worker in workers]

    def _environment_name(self) -> str:
        return self.environments[0].name

    def _allowed(self) -> list[str]:
        return hosts_for_load(self.workspace, self._environment_name())

    async def _driven(self, context: RunContext, started: LoadStarted) -> list[LoadedMessage]:
        """Let every process run its share."""
        ends: list[LoadedMessage] = []
        self._measured.processes = len(self._processes)
        begins = time.time() + self.soon
        order = {
            "type": "load", "points": started.points, "users": started.users,
            "open": started.open, "until": started.until, "loops": started.loops,
            "pause": started.pause, "shuffled": started.order == "random", "seed": started.seed,
            "evenly": self.load.arrivals == "even", "samples": started.samples,
            "contract": started.contract, "allowed": self._hosts, "rows": self.load.rows,
            "weights": self._weights,
            "limit": self.request.timeout or self.workspace.limit(self._suite_of(started)),
        }  # fmt: skip

        def listen(message: WorkerMessage) -> None:
            match message:
                case LoadSecondMessage():
                    self._measured.second(message, context.mask)
                case LoadErrorMessage():
                    self._keep(context, message)
                case LoadedMessage():
                    ends.append(message)
                case SecretMessage():
                    context.mask.learn(message.text)
                case CoveredMessage():
                    key = Exercised(
                        message.source, message.operation, message.status, message.media
                    )
                    self._findings.covered[key] += message.count

        async def drive(number: int, process: LoadProcess) -> None:
            share = {"number": number, "count": len(self._processes)}
            own = {**order, "share": share, "start_at": begins + process.ahead}
            done = await process.worker.ask(own, LoadedMessage, listen, _LONGEST_SILENCE)
            if done.end is not End.DONE:
                self._measured.lost(done.words or done.end.value)

        await asyncio.gather(*(drive(n, each) for n, each in enumerate(self._processes)))
        for end in ends:
            if end.refused:
                check_hosts([end.refused], self._hosts, self._environment_name())
        return ends

    def _suite_of(self, started: LoadStarted) -> Suite:
        path = started.keys[0][0].partition("#")[0]
        return self.workspace.suite(self.inventory.files[path].suite)

    def _keep(self, context: RunContext, message: LoadErrorMessage) -> None:
        """Report an error, with its exchange as a file; each kind once for all processes."""
        if not self._measured.is_new_error(message):
            return
        path = ""
        if message.exchange:
            name = f"{message.workflow} {message.step}"
            path = context.evidence.keep(name, "har", message.exchange).path
        mask = context.mask
        self._tell(
            LoadError(
                message.workflow, message.step, mask(message.kind), mask(message.message), path
            )
        )

    def _verdict(self, unrun: int) -> tuple[int, str]:
        if not self._interrupted and (why := self._measured.stopped_by):
            return 1, f"stopped early: {why}"
        code, reason = super()._verdict(unrun)
        if code == 0 and self._measured.losses:
            return 1, self._measured.losses[0]
        return code, reason


def _only_suite(tests: Sequence[Test], suites: Sequence[Suite]) -> Suite:
    """The suite of the tests. Raises InputError if there are several."""
    names = list(dict.fromkeys(test.suite for test in tests))
    if len(names) > 1:
        words = (
            f"a load test runs the workflows of one suite, but {len(names)} suites were selected"
        )
        raise InputError(Problem(words, hint=f"choose one: --suite {names[0]}"))
    return next(suite for suite in suites if suite.name == names[0])
