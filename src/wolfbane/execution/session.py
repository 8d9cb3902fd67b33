"""Controls a run: collects tests, decides what to run, runs it, and informs the listeners."""

from __future__ import annotations

import asyncio
import signal
import time
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from wolfbane.browsers.run_browsers import PROTOCOL, Pause, RunBrowsers
from wolfbane.events.run_events import EventListener, RunFinished, RunStarted
from wolfbane.execution.findings import coverage
from wolfbane.execution.planner import Planner
from wolfbane.execution.run_start import RunStart
from wolfbane.execution.run_state import RunState
from wolfbane.execution.tests_workload import TestsWorkload, check_live
from wolfbane.execution.this_machine import ThisMachine
from wolfbane.execution.verdict import by_name, verdict
from wolfbane.execution.workload import Executor, Workload
from wolfbane.model import Result, Test
from wolfbane.planning.plan import Plan
from wolfbane.results.quarantine import quarantined_in
from wolfbane.setup.preparation import Preparation, Prepared
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.setup.run_request import NEVER

if TYPE_CHECKING:
    from wolfbane.execution.sharing import Weigh


class Session:
    """One run, from selection to exit code.

    The ``executor`` is where it runs: on this machine, if nothing else is given. The ``workload``
    is what it does: run the tests, if nothing else is given.
    """

    def __init__(
        self,
        inputs: RunInputs,
        run: str,
        *,
        executor: Executor | None = None,
        workload: Workload | None = None,
    ) -> None:
        self._inputs, self._request = inputs, inputs.request
        self._executor: Executor = executor or ThisMachine(inputs)
        self._workload: Workload = workload or TestsWorkload()
        self._planner = Planner(inputs, self._executor.jobs)
        self._recent_rates: Callable[[Sequence[Test]], Mapping[str, str]] = lambda tests: {}
        self._pause: Pause | None = None
        self.state = RunState(inputs, run)
        self.broken: list[Result] = []

    def listen(self, listener: EventListener) -> None:
        """Send every event of the run to a listener."""
        self.state.listeners.append(listener)

    def look_back(self, recent_rates: Callable[[Sequence[Test]], Mapping[str, str]]) -> None:
        """Add the recent pass rate of quarantined tests to the end of the run."""
        self._recent_rates = recent_rates

    def weigh_with(self, weigh: Weigh) -> None:
        """Use other weights than file sizes to divide tests, for ``--share``."""
        self._planner.weigh = weigh

    def pause_with(self, pause: Pause) -> None:
        """Let the user look at a browser that ``--keep-open`` keeps."""
        self._pause = pause

    def plan(self, folder: Path, *, trusting: bool = False) -> Plan:
        """Compute the tests that would run, without running any.

        ``trusting``: unchanged files are not loaded again. Raises NothingChosen.
        """

        async def collected() -> Plan:
            async with self.prepared(folder, trusting=trusting) as prepared:
                if not prepared.chosen and not prepared.broken:
                    raise self._planner.nothing_chosen()
                plan = self._planner.plan(prepared)
            self.broken = prepared.broken
            return plan

        return asyncio.run(collected())

    @asynccontextmanager
    async def planned(self, folder: Path) -> AsyncIterator[Plan]:
        """The plan, with the pool still open. No service has started. Raises NothingChosen."""
        async with self.prepared(folder) as prepared:
            if not prepared.chosen:
                raise self._planner.nothing_chosen()
            yield self._planner.plan(prepared)

    @asynccontextmanager
    async def prepared(self, folder: Path, *, trusting: bool = False) -> AsyncIterator[Prepared]:
        """The prepared tests, with the pool still open. No service has started."""
        context = self.state.context = self._new_context(folder)
        async with context.pool, self._preparation(context) as preparation:
            preparation.trusting = trusting
            yield await self._executor.prepare(preparation, start=False)

    def execute(self, folder: Path) -> int:
        """Run and return the exit code. ``folder`` stores the evidence from workers.

        Raises NothingChosen before the run starts, if no tests are left to run.
        """

        async def interruptible() -> int:
            loop = asyncio.get_running_loop()
            # A shell starts a command in the background with SIGINT ignored: Ctrl-C is not for it.
            if signal.getsignal(signal.SIGINT) is not signal.SIG_IGN:
                loop.add_signal_handler(signal.SIGINT, self.interrupt)
            loop.add_signal_handler(signal.SIGTERM, self.interrupt)
            return await self.execute_async(folder)

        return asyncio.run(interruptible())

    async def execute_async(self, folder: Path) -> int:
        """Like :meth:`execute`, in a running loop. Signals are not handled.

        Raises BlockedError if the executor cannot be used.
        """
        async with self._executor.connected():
            return await self._execute(folder)

    async def _execute(self, folder: Path) -> int:
        began = time.monotonic()
        state = self.state
        context = state.context = self._new_context(folder)
        async with context.pool, self._preparation(context) as preparation:
            plan = await self._begin(preparation)
            unrun = await self._workload.carry_out(state, self._executor, plan)
            for covered in coverage(state.inventory, state.findings.covered):
                state.tell(covered)
            await context.pool.finish()
            warnings = (
                *preparation.environment_setup.ended(),
                *context.browsers.said(),
                *context.evidence.warnings,
                *state.closing_warnings(),
            )
        state.inventory.learn(state.findings.met, state.findings.missed)
        state.inventory.save()
        return self._end(context, plan, unrun, warnings=warnings, seconds=time.monotonic() - began)

    async def _begin(self, preparation: Preparation) -> Plan:
        """Prepare and plan the run, and report its start. Raises NothingChosen."""
        prepared = await self._executor.prepare(preparation)
        state = self.state
        if not prepared.chosen and not prepared.broken and not state.interrupted:
            raise self._planner.nothing_chosen()
        plan = self._planner.plan(prepared)
        if self._request.live:
            check_live(plan)
        state.quarantined = quarantined_in(self._inputs.quarantine, plan.tests, date.today())
        start = self._start_event(plan, prepared)
        state.warned = bool(start.warnings)
        state.tell(start)
        for result in prepared.broken:
            state.finished(result)
        return plan

    def _start_event(self, plan: Plan, prepared: Prepared) -> RunStarted:
        start = RunStart(
            inputs=self._inputs,
            run=self.state.run,
            plan=plan,
            prepared=prepared,
            quarantined=self.state.quarantined,
            focused=self._planner.focused,
            mismatches=self._mismatches(prepared),
            share=self._planner.share,
        ).event()
        if not self._workload.has_order:
            start = replace(start, order="")
        return replace(start, on=self._executor.address or start.on)

    def _mismatches(self, prepared: Prepared) -> Sequence[str]:
        """Differences between suites and deployed version; InputError if they must match."""
        if not prepared.versions:
            return ()
        from wolfbane.setup.version_checks import version_mismatches

        return version_mismatches(self._inputs, prepared.versions)

    def _end(
        self,
        context: RunContext,
        plan: Plan,
        unrun: int,
        warnings: tuple[str, ...],
        seconds: float,
    ) -> int:
        """Report the end of the run; returns the exit code."""
        code, reason = self._verdict(unrun, warned=bool(warnings or self.state.warned))
        if unrun and code in (0, 3) and (limit := self._request.run_time):
            code, reason = code or 1, f"stopped after the time limit of {limit:g} s (--run-time)"
        tally, quarantined = self.state.tally, self.state.quarantined
        tests = [test for test in plan.tests if test.address in quarantined]
        self.state.tell(
            RunFinished(
                seconds=round(seconds, 3),
                exit_code=code,
                counts=by_name(tally.tests),
                unrun=unrun,
                reason=reason,
                warnings=warnings,
                browsers=context.browsers.versions,
                quarantined=by_name(tally.quarantined),
                limits=by_name(tally.limits),
                lately=dict(self._recent_rates(tests)) if tests else {},
            )
        )
        return code

    def _verdict(self, unrun: int, *, warned: bool) -> tuple[int, str]:
        state, request = self.state, self._request
        of_outcomes = verdict(
            state.tally,
            state.quarantined,
            request.stop_after,
            unrun,
            focused=bool(request.no_focus and self._planner.focused),
            flaky_fails=request.flaky_fails,
            warnings_fail=warned and request.warnings_fail,
            interrupted=state.interrupted,
        )
        code, reason = self._workload.verdict(state, of_outcomes)
        trouble = self._executor.trouble
        if trouble and code in (0, 3):
            return 4, trouble
        return code, "; ".join(filter(None, [reason, trouble]))

    def _new_context(self, folder: Path) -> RunContext:
        request, state = self._request, self.state
        browsers = RunBrowsers(
            state.workspace,
            request.evidence,
            visible=request.visible,
            pace=request.pace or 0.0,
            tell=state.tell if PROTOCOL in request.log else None,
            pause=self._pause if request.keep_open else None,
        )
        return RunContext(
            workspace=state.workspace,
            environments=self._inputs.environments,
            folder=folder,
            browsers=browsers,
            mask=state.mask,
            jobs=self._executor.jobs,
            no_build=request.build == NEVER,
            head_start=self._inputs.head_start,
        )

    def _preparation(self, context: RunContext) -> Preparation:
        inputs = self._inputs
        return Preparation(
            inventory=inputs.inventory,
            choice=inputs.choice,
            status=inputs.known.status,
            context=context,
            tell=self.state.tell,
        )

    def interrupt(self) -> None:
        """Once: end the workers, store and print the results. Twice: end immediately."""
        state = self.state
        if state.interrupted:
            raise KeyboardInterrupt
        state.interrupted = True
        if state.context is not None and not self._workload.stop():
            state.context.browsers.go_on()
            state.context.pool.stop()
            self._executor.stop()
