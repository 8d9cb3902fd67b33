"""Drive a run: collect, decide, carry out, tell the listeners."""

from __future__ import annotations

import asyncio
import signal
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from pathlib import Path

from wolfbane import __version__
from wolfbane.browsers.finding import has_screen
from wolfbane.browsers.run_browsers import PROTOCOL, RunBrowsers
from wolfbane.environments import Environment, Mask
from wolfbane.errors import NothingChosen
from wolfbane.events import (
    Event,
    Listener,
    Quarantined,
    RunFinished,
    RunStarted,
    Target,
    TestFinished,
)
from wolfbane.execution.coverage import coverage
from wolfbane.execution.masked import masked
from wolfbane.execution.quarantined import held_in
from wolfbane.execution.retries import Retries
from wolfbane.execution.run_context import RunContext
from wolfbane.execution.run_request import RunRequest
from wolfbane.execution.run_warnings import (
    of_damage,
    of_the_choice,
    of_the_files,
    of_the_quarantine,
    of_what_came_back,
    of_what_is_prepared,
)
from wolfbane.execution.scheduler import Scheduler
from wolfbane.execution.setup.builds import NEVER
from wolfbane.execution.setup.preparation import Preparation, Prepared
from wolfbane.execution.verdict import bad_ones, verdict
from wolfbane.inventory import Inventory
from wolfbane.inventory.empty import nothing_chosen
from wolfbane.inventory.unclaimed import unclaimed
from wolfbane.kinds.contract import MissingRuntime
from wolfbane.kinds.registry import find_kind
from wolfbane.model import Discrepancy, Outcome, Result, Test, variant
from wolfbane.planning import Plan, make_plan
from wolfbane.results.newest import Known
from wolfbane.results.quarantine import Quarantine
from wolfbane.selection import Choice
from wolfbane.workspace.settings import Workspace


class Session:
    """One run from selection to exit code."""

    def __init__(
        self,
        inventory: Inventory,
        choice: Choice,
        request: RunRequest,
        known: Known,
        environments: Sequence[Environment],
        run: str,
        documents: Mapping[str, str] | None = None,
        said: Sequence[str] = (),
        quarantine: Quarantine | None = None,
    ) -> None:
        self.workspace: Workspace = inventory.workspace
        self.inventory = inventory
        self.choice, self.request, self.known, self.run = choice, request, known, run
        self.environments = environments
        self._jobs = request.jobs or 1
        self._mask = Mask(secret for each in environments for secret in each.secrets)
        self._documents, self._said = dict(documents or {}), said
        self.counts: Counter[Outcome] = Counter()
        self.set_apart: Counter[Outcome] = Counter()
        self._quarantine = quarantine or Quarantine([])
        self._held: dict[str, Quarantined] = {}
        self._lately: Callable[[Sequence[Test]], Mapping[str, str]] = lambda tests: {}
        self._listeners: list[Listener] = []
        self.broken: list[Result] = []
        self._unplanned: list[Result] = []
        self._focused: list[str] = []
        self._interrupted = False
        self._context: RunContext | None = None

    def listen(self, listener: Listener) -> None:
        """Have every event of the run told to a listener."""
        self._listeners.append(listener)

    def look_back(self, lately: Callable[[Sequence[Test]], Mapping[str, str]]) -> None:
        """Have the run's end say how often its quarantined tests passed lately."""
        self._lately = lately

    def plan(self, folder: Path) -> Plan:
        """Work out what would run, and run none of it. Raises NothingChosen."""

        async def collected() -> Plan:
            context = self._new_context(folder)
            async with context.pool, self._preparation(context) as preparation:
                prepared = await self._prepared(preparation, start=False)
            self.broken = prepared.broken
            if not prepared.chosen and not prepared.broken:
                raise self._nothing_chosen()
            return self._planned(prepared)

        return asyncio.run(collected())

    def execute(self, folder: Path) -> int:
        """Run and return the exit code. ``folder`` takes what workers leave behind.

        Raises NothingChosen before the run starts, where no test is left to run.
        """

        async def interruptible() -> int:
            loop = asyncio.get_running_loop()
            loop.add_signal_handler(signal.SIGINT, self.interrupt)
            loop.add_signal_handler(signal.SIGTERM, self.interrupt)
            return await self.execute_async(folder)

        return asyncio.run(interruptible())

    async def execute_async(self, folder: Path) -> int:
        """As :meth:`execute`, in a loop that is running. Signals are not taken.

        Raises NothingChosen before the run starts, where no test is left to run.
        """
        began = time.monotonic()
        context = self._context = self._new_context(folder)
        async with context.pool, self._preparation(context) as preparation:
            prepared = await self._prepared(preparation)
            if not prepared.chosen and not prepared.broken and not self._interrupted:
                raise self._nothing_chosen()
            plan = self._planned(prepared)
            self._held = held_in(self._quarantine, plan.tests, date.today())
            self._tell(self._started(plan, prepared))
            for result in prepared.broken:
                self._finished(result)
            runner = Scheduler(
                context, self.request.timeout, self._tell, self._finished,
                self.inventory.files, Retries(self.workspace, self.request.retries),
                retry_at_once=self.request.retry_when == "at-once",
            )  # fmt: skip
            await context.browsers.plan(context.launcher.group, plan, self._jobs)
            unrun = await runner.carry_out(plan)
            for covered in coverage(self.inventory, runner.findings.covered):
                self._tell(covered)
            await context.pool.finish()
            ended = (
                *preparation.environment_setup.ended(), *context.browsers.said(),
                *of_what_came_back(self.workspace, self._unplanned),
                *of_damage(runner.findings.damage),
            )  # fmt: skip
        self.inventory.learn(runner.findings.met, runner.findings.missed)
        self.inventory.save()
        seconds = time.monotonic() - began
        code, reason = verdict(
            self.counts, self.set_apart, self._held, self.request.stop_after, unrun,
            focused=bool(self.request.no_focus and self._focused),
            flaky_fails=self.request.flaky_fails, interrupted=self._interrupted,
        )  # fmt: skip
        counts = {str(outcome): count for outcome, count in self.counts.items()}
        browsers = context.browsers.versions
        apart = {str(outcome): count for outcome, count in self.set_apart.items()}
        held = [test for test in plan.tests if test.address in self._held]
        lately = dict(self._lately(held)) if held else {}
        self._tell(
            RunFinished(
                round(seconds, 3), code, counts, unrun, reason, ended, browsers, apart, lately
            )
        )
        return code

    def _new_context(self, folder: Path) -> RunContext:
        request = self.request
        browsers = RunBrowsers(
            self.workspace, request.evidence, visible=request.visible,
            tell=self._tell if PROTOCOL in request.log else None,
        )  # fmt: skip
        return RunContext(
            self.workspace, self.environments, folder, browsers, self._mask, self._jobs,
            no_build=request.build == NEVER,
        )  # fmt: skip

    def _preparation(self, context: RunContext) -> Preparation:
        return Preparation(self.inventory, self.choice, self.known.status, context, self._tell)

    async def _prepared(self, preparation: Preparation, *, start: bool = True) -> Prepared:
        request = self.request
        return await preparation.prepare(
            request.build, self.known.times, request.timeout, start=start
        )

    def _planned(self, prepared: Prepared) -> Plan:
        root, together = self.workspace.root, {}
        for suite in self.workspace.suites:
            if per := find_kind(suite.kind).started_together(root, suite):
                together[suite.name] = per
        self._focused = [f"{test.path}:{test.line}" for test in prepared.chosen if test.focused]
        return make_plan(
            prepared.chosen, self.inventory.files, prepared.left_out, self.known.times,
            jobs=self._jobs, seed=self.request.seed, first=self._first(),
            together=together,
        )  # fmt: skip

    def _first(self) -> frozenset[str]:
        """What failed when last run, where that is to run before all else."""
        if self.request.order != "failed":
            return frozenset()
        bad = {str(outcome) for outcome in Outcome if outcome.is_bad}
        return frozenset(address for address, s in self.known.status.items() if s in bad)

    def _started(self, plan: Plan, prepared: Prepared) -> RunStarted:
        broken = prepared.broken
        counted = Counter(test.suite for test in plan.tests)
        counted.update(result.suite for result in broken)
        names = [suite.name for suite in self.workspace.suites]
        suites = {name: counted[name] for name in names if counted[name]}
        paths = Counter(variant(t.path, t.browser, t.target) for t in plan.tests)
        paths.update(variant(r.path, r.browser, r.target) for r in broken)
        order = "what failed first" if self.request.order == "failed" else "longest file first"
        if self.request.seed is not None:
            order = f"random, seed {self.request.seed}"
        return RunStarted(
            run=self.run,
            workspace=self.workspace.name,
            began=datetime.now().astimezone().isoformat(timespec="milliseconds"),
            command=self.request.command,
            pulled_in=prepared.pulled_in,
            documents=self._documents,
            visible=self.request.visible and has_screen(),
            quarantined=self._held,
            browsers=tuple(dict.fromkeys(t.browser for t in plan.tests if t.browser)),
            targets=tuple(Target(e.label, e.name, e.shown()) for e in self.environments),
            expression=str(self.choice),
            leave_out=str(self.choice.leave_out or ""),
            left_out=dict(plan.left_out),
            tests=sum(suites.values()),
            files=dict(paths),
            suites=suites,
            jobs=self._jobs,
            order=order,
            runtimes=self._runtimes(suites),
            neglected=tuple(name for name in names if name not in suites),
            focused=tuple(self._focused),
            warnings=tuple(self._warnings(prepared)),
            without_tests=tuple(prepared.empty),
            unclaimed=tuple(unclaimed(self.inventory)) if self.workspace.detected else (),
            workspaces=self.workspace.nested,
            version=__version__,
            pointed=self.request.pointed,
        )

    def _runtimes(self, suites: Mapping[str, int]) -> dict[str, str]:
        found = {}
        for name in suites:
            suite = self.workspace.suite(name)
            try:
                found[name] = find_kind(suite.kind).runtime(self.workspace.root, suite)
            except MissingRuntime as missing:
                found[name] = str(missing)
        return found

    def _warnings(self, prepared: Prepared) -> list[str]:
        tests = [t for e in self.environments for t in self.inventory.tests_at(e.label)]
        said = [
            *self._said,
            *of_what_is_prepared(prepared, self.inventory.shared, self.workspace.suites),
            *of_the_files(self.inventory.files.values(), self.choice),
        ]
        broken = [Test(r.suite, r.kind, r.path, r.name) for r in prepared.broken]
        said += of_the_choice(self.choice, [*tests, *broken], self.known.status)
        said += of_the_quarantine(self._quarantine, tests)
        if self.request.visible and not has_screen():
            said.append("there is no screen here: browsers are not shown (--visible)")
        return said

    def _nothing_chosen(self) -> NothingChosen:
        return nothing_chosen(self.inventory, self.choice, self.known.status, to_run=True)

    def _finished(self, result: Result, extra: bool = False) -> None:
        (self.set_apart if result.address in self._held else self.counts)[result.outcome] += 1
        if result.account in (Discrepancy.ADDED, Discrepancy.UNASKED):
            self._unplanned.append(result)
        self._tell(TestFinished(result, extra))
        limit = self.request.stop_after
        if limit and bad_ones(self.counts) >= limit and self._context:
            self._context.pool.stop()

    def interrupt(self) -> None:
        """Once: end the workers, keep and print what ran. Twice: end at once."""
        if self._interrupted:
            raise KeyboardInterrupt
        self._interrupted = True
        if self._context is not None:
            self._context.pool.stop()

    def _tell(self, event: Event) -> None:
        shown = masked(event, self._mask)
        for listener in self._listeners:
            listener(shown)
