"""The first event of a run, with all data for the header."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime

import msgspec
from msgspec.structs import replace

from wolfbane import __version__
from wolfbane.browsers.engines.discovery import has_screen
from wolfbane.environments.deployed import DeployedVersion
from wolfbane.events.run_events import Quarantined, RunStarted, ShareFacts, Target
from wolfbane.execution.run_warnings import (
    of_the_choice,
    of_the_files,
    of_the_quarantine,
    of_what_is_prepared,
)
from wolfbane.inventory.unclaimed import how_to_claim, unclaimed
from wolfbane.kinds.contract import OMIT_NEVER, MissingRuntime
from wolfbane.kinds.protocols import launcher_of, process_scope, usual_process_scope
from wolfbane.kinds.registry import find_kind
from wolfbane.model import Test, TestFile, variant
from wolfbane.planning.plan import Plan
from wolfbane.selection import terms_of
from wolfbane.setup.preparation import Prepared
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.workspace.settings import Workspace

_PASSING = ("status", "machine", "changed")
"""Selection fields that match other tests after a run or a change."""


class RunStart(msgspec.Struct, frozen=True):
    """A planned run. ``focused`` lists the places of tests that are marked as the only ones to run.

    ``quarantined`` is by address; ``mismatches`` are the differences between the suites and the
    deployed version.
    """

    inputs: RunInputs
    run: str
    plan: Plan
    prepared: Prepared
    quarantined: Mapping[str, Quarantined]
    focused: Sequence[str]
    mismatches: Sequence[str] = ()
    share: ShareFacts | None = None

    def event(self) -> RunStarted:
        """The event, with the counts of the plan and of the broken files."""
        inputs, plan, suites = self.inputs, self.plan, self._suites()
        request, workspace = inputs.request, inputs.workspace
        started = RunStarted(
            run=self.run,
            workspace=workspace.name,
            began=datetime.now().astimezone().isoformat(timespec="milliseconds"),
            command=request.command,
            pulled_in=self.prepared.pulled_in,
            documents=dict(inputs.documents),
            visible=request.visible and has_screen(),
            quarantined=dict(self.quarantined),
            browsers=tuple(dict.fromkeys(t.browser for t in plan.tests if t.browser)),
            targets=tuple(self._targets()),
            suite_state=inputs.suite_state(),
            passed_on=request.passed_on,
            options_for=request.options_for if request.passed_on else (),
            arguments=request.arguments,
            folder=request.folder,
            seed=request.seed,
            chosen=self._chosen(),
            live=request.live,
            share=self.share,
            on=request.on,
            expression=str(inputs.choice),
            leave_out=str(inputs.choice.leave_out or ""),
            left_out=dict(plan.left_out),
            tests=sum(suites.values()),
            files=self._files(),
            suites=suites,
            jobs=request.jobs or (0 if request.on else 1),
            order=self._order(),
            runtimes=_runtimes(workspace, suites),
            processes=_processes(workspace, suites),
            unseen=tuple(_unseen(workspace, suites)),
            neglected=tuple(s.name for s in workspace.suites if s.name not in suites),
            focused=tuple(self.focused),
            version=__version__,
            warnings=tuple(self._warnings()),
            untraced=tuple(inputs.choice.untraced),
            workspaces=workspace.nested,
            pointed=request.pointed,
        )
        return self._with_other_files(started)

    def _with_other_files(self, started: RunStarted) -> RunStarted:
        """With the files that contain no test, and those that belong to no suite."""
        inventory = self.inputs.inventory
        if self.inputs.workspace.detected:
            files = unclaimed(inventory)
        else:
            files = []
        to_claim = how_to_claim(inventory, files) if files else ()
        without = tuple(self.prepared.empty)
        return replace(
            started, without_tests=without, unclaimed=tuple(files), to_claim=tuple(to_claim)
        )

    def _targets(self) -> Iterator[Target]:
        for each in self.inputs.environments:
            there = self.prepared.versions.get(each.label, DeployedVersion())
            yield Target(
                label=each.label,
                environment=each.name,
                parameters=each.shown(),
                version=there.text,
                revision=there.revision,
            )

    def _chosen(self) -> tuple[str, ...]:
        """The addresses of the tests, if the arguments could select other tests later."""
        choice = self.inputs.choice
        terms = [t for each in (choice.expression, *choice.drops) for t in terms_of(each)]
        if not (self.inputs.request.pinned or any(t.field in _PASSING for t in terms)):
            return ()
        addresses = [test.address for test in self.plan.tests]
        addresses += [result.address for result in self.prepared.broken]
        return tuple(dict.fromkeys(addresses))

    def _suites(self) -> dict[str, int]:
        """How many tests each suite has in the run, in the order of the settings."""
        counted = Counter(test.suite for test in self.plan.tests)
        counted.update(result.suite for result in self.prepared.broken)
        names = [suite.name for suite in self.inputs.workspace.suites]
        return {name: counted[name] for name in names if counted[name]}

    def _files(self) -> dict[str, int]:
        """The number of tests per file in the run, for each browser and target."""
        paths = Counter(variant(t.path, t.browser, t.target) for t in self.plan.tests)
        paths.update(variant(r.path, r.browser, r.target) for r in self.prepared.broken)
        return dict(paths)

    def _order(self) -> str:
        request = self.inputs.request
        if request.seed is not None:
            return f"random, seed {request.seed}"
        if request.order == "failed":
            return "previously failed tests first"
        return "longest file first"

    def _warnings(self) -> list[str]:
        inputs, inventory = self.inputs, self.inputs.inventory
        tests = [t for e in inputs.environments for t in inventory.tests_at(e.label)]
        warnings = [
            *inputs.warnings,
            *self.mismatches,
            *of_what_is_prepared(self.prepared, inventory.shared, inputs.workspace.suites),
            *of_the_files(inventory.files.values(), inputs.choice),
        ]
        broken = [
            Test(suite=r.suite, kind=r.kind, path=r.path, name=r.name) for r in self.prepared.broken
        ]
        warnings += of_the_choice(inputs.choice, [*tests, *broken], inputs.known.status)
        warnings += of_the_quarantine(inputs.quarantine, tests)
        if inputs.request.visible and not has_screen():
            warnings.append("browsers are not visible, because no screen is available (--visible)")
        return warnings


def only_marks(tests: Sequence[Test], files: Mapping[str, TestFile]) -> list[str]:
    """The places that mark tests as the only ones to run, in the files of these tests."""
    marks = {(test.path, test.line) for test in tests if test.focused}
    for path in {test.path for test in tests}:
        marks |= {(path, line) for line in files[path].only_marks}
    return [f"{path}:{line}" for path, line in sorted(marks)]


def _processes(workspace: Workspace, suites: Iterable[str]) -> dict[str, str]:
    """The scope of a process, for suites whose settings change it."""
    processes = {}
    for name in suites:
        suite = workspace.suite(name)
        if (process := process_scope(suite)) != usual_process_scope(suite.kind):
            processes[name] = process
    return processes


def _unseen(workspace: Workspace, suites: Iterable[str]) -> Iterator[str]:
    """Suites whose launchers always get names, and do not run tests that were not found."""
    for name in suites:
        suite = workspace.suite(name)
        launcher = launcher_of(suite)
        if launcher and launcher.omits_names(workspace.root, suite) == OMIT_NEVER:
            yield name


def _runtimes(workspace: Workspace, suites: Iterable[str]) -> dict[str, str]:
    """The runtime of each suite, or the reason why there is none."""
    runtimes = {}
    for name in suites:
        suite = workspace.suite(name)
        try:
            runtimes[name] = find_kind(suite.kind).runtime(workspace.root, suite)
        except MissingRuntime as missing:
            runtimes[name] = str(missing)
    return runtimes
