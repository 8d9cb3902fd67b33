"""Runs a load test: the selected workflows with many concurrent users."""

from __future__ import annotations

import asyncio
import shutil
from collections import Counter
from collections.abc import Callable, Sequence

from msgspec.structs import replace

from wolfbane.app.ready import ReadyRun, make_ready
from wolfbane.app.run import RunEnd, inputs_of, record_session
from wolfbane.app.selection import Selected
from wolfbane.environments import Environment
from wolfbane.errors import WolfbaneError
from wolfbane.events.load_events import LoadStarted
from wolfbane.events.run_events import EventListener
from wolfbane.execution.session import Session
from wolfbane.execution.this_machine import ThisMachine
from wolfbane.execution.workload import Executor
from wolfbane.inventory.documents import keep_with_run
from wolfbane.inventory.resolving import resolved
from wolfbane.kinds.protocols import Loadable, kinds_with
from wolfbane.load.load_request import LoadRequest
from wolfbane.load.load_workload import LoadWorkload, preview
from wolfbane.load.profiles import find_profile
from wolfbane.results.runs import new_run
from wolfbane.selection import all_of, any_of, choose, parse
from wolfbane.selection.grammar import Term
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.setup.run_request import RunRequest
from wolfbane.workspace.settings import Workspace


def make_load_ready(
    workspace: Workspace,
    environments: Sequence[Environment],
    select: Callable[[Workspace], Selected],
    request: RunRequest,
    profile: str = "",
) -> ReadyRun:
    """Read and check everything. Tests that load tests do not support are left out and counted.

    ``profile`` is the name of a profile whose selection narrows the selected tests.

    Raises NothingChosen if no file can contain a test for a load test.
    """
    left: Counter[str] = Counter()

    def narrowed(opened: Workspace) -> Selected:
        selected = select(opened)
        if profile and (text := find_profile(workspace, profile).select):
            own = resolved(parse(text), selected.inventory)
            expression = all_of([selected.choice.expression, own])
            selected = replace(selected, choice=replace(selected.choice, expression=expression))
        tests = choose(selected.choice, selected.inventory.tests, {}).chosen
        loadable = [name for name, _ in kinds_with(Loadable)]
        left.update(test.kind for test in tests if test.kind not in loadable)
        kinds = any_of(Term("kind", name) for name in loadable)
        expression = all_of([selected.choice.expression, kinds])
        return replace(selected, choice=replace(selected.choice, expression=expression))

    ready = make_ready(workspace, environments, narrowed, request)
    if not left:
        return ready
    kinds = ", ".join(f"{count:,} of kind {kind}" for kind, count in left.items())
    return replace(
        ready,
        warnings=(*ready.warnings, f"left out, because load tests support only workflows: {kinds}"),
    )


def look_at_load(
    ready: ReadyRun, load: LoadRequest
) -> tuple[LoadStarted, Sequence[tuple[str, str, str]]]:
    """A preview of a load test, and the tests that cannot run: address, outcome, message.

    No request is sent. Raises NothingChosen and InputError.
    """
    folder, inputs = new_run(ready.workspace.results), inputs_of(ready)
    try:
        executor = _executor(inputs, folder.name)
        return asyncio.run(preview(inputs, folder.name, load, executor=executor, folder=folder))
    finally:
        shutil.rmtree(folder)


def carry_out_load(ready: ReadyRun, load: LoadRequest, *listeners: EventListener) -> RunEnd:
    """Run a prepared load test. Listeners receive every event. Raises NothingChosen.

    ``status:`` ignores outcomes under load, so they are not stored as newest outcomes.
    """
    folder, inputs = new_run(ready.workspace.results), inputs_of(ready)
    keep_with_run(ready.copies, ready.workspace.root, folder)
    try:
        executor = _executor(inputs, folder.name)
    except WolfbaneError:
        shutil.rmtree(folder)
        raise
    workload = LoadWorkload(load, folder)
    session = Session(inputs, folder.name, executor=executor, workload=workload)
    return record_session(ready, folder, session, newest=None, listeners=listeners)


def _executor(inputs: RunInputs, run: str) -> Executor:
    if inputs.request.on:
        from wolfbane.cluster.here.cluster_executor import ClusterExecutor  # only where wanted

        return ClusterExecutor(inputs, run)
    return ThisMachine(inputs)
