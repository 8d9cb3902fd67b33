"""Controls a run: collects tests, decides what to run, runs it, and informs the listeners."""

from __future__ import annotations

import asyncio
import signal
import time
from collections.abc import Callable, Mapping, Sequence
from datetime import date
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from wolfbane.browsers.run_browsers import PROTOCOL, Pause, RunBrowsers
from wolfbane.environments import mask_of
from wolfbane.errors import NothingChosen
from wolfbane.events.run_events import (
    Event,
    Listener,
    Quarantined,
    RunFinished,
    RunStarted,
    ShareFacts,
    TestFinished,
)
from wolfbane.execution.coverage import coverage
from wolfbane.execution.findings import Findings
from wolfbane.execution.launcher_comparison import Comparisons
from wolfbane.execution.live import check_live
from wolfbane.execution.masked import masked
from wolfbane.execution.quarantined import quarantined_in
from wolfbane.execution.repeats import attempts_of
from wolfbane.execution.run_start import RunStart, only_marks
from wolfbane.execution.run_warnings import of_damage, of_what_came_back
from wolfbane.execution.scheduler import Scheduler
from wolfbane.execution.verdict import Tally, by_name, verdict
from wolfbane.kinds.registry import find_kind, in_one_process
from wolfbane.model import Discrepancy, Outcome, Result, Test
from wolfbane.planning.plan import IN_ORDER, Plan, each_apart, make_plan
from wolfbane.setup.preparation import Preparation, Prepared
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.setup.run_request import NEVER

if TYPE_CHECKING:
    from wolfbane.execution.sharing import Weigh


class Session:
    """One run, from selection to exit code."""

    def __init__(self, inputs: RunInputs, run: str) -> None:
        self.inputs, self.run = inputs, run
        self.inventory, self.workspace = inputs.inventory, inputs.workspace
        self.choice, self.request, self.known = inputs.choice, inputs.request, inputs.known
        self.environments = inputs.environments
        self._jobs = self.request.jobs or 1
        self._mask = mask_of(self.environments)
        self._tally = Tally()
        self._quarantined: dict[str, Quarantined] = {}
        self._lately: Callable[[Sequence[Test]], Mapping[str, str]] = lambda tests: {}
        self._listeners: list[Listener] = []
        self._pause: Pause | None = None
        self._share: ShareFacts | None = None
        self._weigh: Weigh | None = None
        self.broken: list[Result] = []
        self._unplanned: list[Result] = []
        self._focused: list[str] = []
        self._interrupted = False
        self._context: RunContext | None = None
        self._findings = Findings()
        self._late_warnings: list[str] = []

    def listen(self, listener: Listener) -> None:
        """Send every event of the run to a listener."""
        self._listeners.append(listener)

    def look_back(self, lately: Callable[[Sequence[Test]], Mapping[str, str]]) -> None:
        """Add the recent pass rate of quarantined tests to the end of the run."""
        self._lately = lately

    def weigh_with(self, weigh: Weigh) -> None:
        """Use other weights than file sizes to divide tests, for ``--share``."""
        self._weigh = weigh

    def pause_with(self, pause: Pause) -> None:
        """Let the user look at a browser that ``--keep-open`` keeps."""
        self._pause = pause

    def plan(self, folder: Path, *, trusting: bool = False) -> Plan:
        """Compute the tests that would run, without running any.

        ``trusting``: unchanged files are not loaded again. Raises NothingChosen.
        """

        async def collected() -> Plan:
            context = self._new_context(folder)
            async with context.pool, self._preparation(context) as preparation:
                preparation.trusting = trusting
                prepared = await self._prepared(preparation, start=False)
            if not prepared.chosen and not prepared.broken:
                raise self._nothing_chosen()
            plan = self._planned(prepared)
            self.broken = prepared.broken
            return plan

        return asyncio.run(collected())

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
        """Like :meth:`execute`, in a running loop. Signals are not handled."""
        began = time.monotonic()
        context = self._context = self._new_context(folder)
        async with context.pool, self._preparation(context) as preparation:
            plan = await self._begin(preparation)
            unrun = await self._carry_out(context, plan)
            for covered in coverage(self.inventory, self._findings.covered):
                self._tell(covered)
            await context.pool.finish()
            warnings = (
                *preparation.environment_setup.ended(), *context.browsers.said(),
                *context.evidence.warnings, *self._late_warnings,
                *of_what_came_back(self.workspace, self._unplanned),
                *(of_damage(self._findings.damage) if not self.request.live else ()),
            )  # fmt: skip
        self.inventory.learn(self._findings.met, self._findings.missed)
        self.inventory.save()
        return self._end(plan, unrun, warnings, time.monotonic() - began)

    async def _carry_out(self, context: RunContext, plan: Plan) -> int:
        """Run the plan; returns the number of tests that did not start."""
        if self.request.live:
            from wolfbane.workers.terminal import LiveTerminal

            with LiveTerminal(self._mask) as context.launcher.terminal:
                return await self._scheduled(context, plan)
        return await self._scheduled(context, plan)

    async def _scheduled(self, context: RunContext, plan: Plan) -> int:
        comparisons = Comparisons(self.inventory, plan, self.choice.leave_out)
        scheduler = Scheduler(
            context, self.request.timeout, self._tell, self._finished, self.inventory.files,
            attempts_of(self.workspace, self.request), self._findings, comparisons.names,
        )  # fmt: skip
        if self.request.live or (self.request.repeats and self.request.repeat_in == "fresh"):
            plan = each_apart(plan)
        await context.browsers.plan(context.launcher.group, plan, self._jobs)
        if limit := self.request.run_time:
            asyncio.get_running_loop().call_later(limit, context.pool.stop)
        unrun = await scheduler.carry_out(plan)
        self._late_warnings += comparisons.end(self._unplanned, complete=not unrun)
        return unrun

    async def _begin(self, preparation: Preparation) -> Plan:
        """Prepare and plan the run, and report its start. Raises NothingChosen."""
        prepared = await self._prepared(preparation)
        if not prepared.chosen and not prepared.broken and not self._interrupted:
            raise self._nothing_chosen()
        plan = self._planned(prepared)
        if self.request.live:
            check_live(plan)
        self._quarantined = quarantined_in(self.inputs.quarantine, plan.tests, date.today())
        start = RunStart(
            self.inputs, self.run, plan, prepared, self._quarantined, self._focused,
            self._mismatches(prepared), self._share,
        )  # fmt: skip
        self._tell(self._start_event(start))
        for result in prepared.broken:
            self._finished(result)
        return plan

    def _mismatches(self, prepared: Prepared) -> Sequence[str]:
        """Differences between suites and deployed version; InputError if they must match."""
        if not prepared.versions:
            return ()
        from wolfbane.setup.version_checks import version_mismatches

        return version_mismatches(self.inputs, prepared.versions)

    def _start_event(self, start: RunStart) -> RunStarted:
        return start.event()

    def _end(self, plan: Plan, unrun: int, warnings: tuple[str, ...], seconds: float) -> int:
        """Report the end of the run; returns the exit code."""
        code, reason = self._verdict(unrun)
        if unrun and code in (0, 3) and (limit := self.request.run_time):
            code, reason = code or 1, f"stopped after the time limit of {limit:g} s (--run-time)"
        quarantined = [test for test in plan.tests if test.address in self._quarantined]
        self._tell(
            RunFinished(
                seconds=round(seconds, 3),
                exit_code=code,
                counts=by_name(self._tally.tests),
                unrun=unrun,
                reason=reason,
                warnings=warnings,
                browsers=self._context.browsers.versions if self._context else {},
                quarantined=by_name(self._tally.quarantined),
                limits=by_name(self._tally.limits),
                lately=dict(self._lately(quarantined)) if quarantined else {},
            )
        )
        return code

    def _verdict(self, unrun: int) -> tuple[int, str]:
        return verdict(
            self._tally, self._quarantined, self.request.stop_after, unrun,
            focused=bool(self.request.no_focus and self._focused),
            flaky_fails=self.request.flaky_fails, interrupted=self._interrupted,
        )  # fmt: skip

    def _new_context(self, folder: Path) -> RunContext:
        request = self.request
        browsers = RunBrowsers(
            self.workspace, request.evidence, visible=request.visible, pace=request.pace or 0.0,
            tell=self._tell if PROTOCOL in request.log else None,
            pause=self._pause if request.keep_open else None,
        )  # fmt: skip
        return RunContext(
            self.workspace, self.environments, folder, browsers, self._mask, self._jobs,
            no_build=request.build == NEVER, head_start=self.inputs.head_start,
        )  # fmt: skip

    def _preparation(self, context: RunContext) -> Preparation:
        return Preparation(self.inventory, self.choice, self.known.status, context, self._tell)

    async def _prepared(self, preparation: Preparation, *, start: bool = True) -> Prepared:
        request = self.request
        return await preparation.prepare(
            request.build, self.known.times, request.timeout, start=start
        )

    def _planned(self, prepared: Prepared) -> Plan:
        if self.request.share is not None:
            from wolfbane.execution.sharing import by_file_size, take_share

            weigh = self._weigh or partial(by_file_size, self.workspace.root)
            weights = weigh(prepared.chosen)
            self._share = take_share(self.request.share, prepared, self.inventory, weights)
        root, together = self.workspace.root, {}
        for suite in self.workspace.suites:
            if per := find_kind(suite.kind).started_together(root, suite):
                together[suite.name] = per
        together.update(dict.fromkeys(in_one_process(self.workspace.suites), IN_ORDER))
        self._focused = only_marks(prepared.chosen, self.inventory.files)
        return make_plan(
            prepared.chosen, self.inventory.files, prepared.left_out, self.known.times,
            jobs=self._jobs, seed=self.request.seed, first=self._first(),
            together=together,
        )  # fmt: skip

    def _first(self) -> frozenset[str]:
        """The previously failed tests, if they must run first."""
        if self.request.order != "failed":
            return frozenset()
        bad = {str(outcome) for outcome in Outcome if outcome.is_bad}
        return frozenset(address for address, s in self.known.status.items() if s in bad)

    def _nothing_chosen(self) -> NothingChosen:
        from wolfbane.inventory.empty import nothing_chosen

        return nothing_chosen(self.inventory, self.choice, self.known.status, to_run=True)

    def _finished(self, result: Result, extra: bool = False) -> None:
        self._tally.add(result, quarantined=result.address in self._quarantined)
        if result.account in (Discrepancy.ADDED, Discrepancy.UNASKED):
            self._unplanned.append(result)
        self._tell(TestFinished(result, extra))
        limit = self.request.stop_after
        if limit and self._tally.bad >= limit and self._context:
            self._context.pool.stop()

    def interrupt(self) -> None:
        """Once: end the workers, store and print the results. Twice: end immediately."""
        if self._interrupted:
            raise KeyboardInterrupt
        self._interrupted = True
        if self._context is not None:
            self._context.browsers.go_on()
            self._context.pool.stop()

    def _tell(self, event: Event) -> None:
        shown = masked(event, self._mask)
        for listener in self._listeners:
            listener(shown)
