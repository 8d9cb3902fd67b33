"""Runs a load test: the selected workflows with many concurrent users."""

from __future__ import annotations

import asyncio
import shutil
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec.structs import replace

from wolfbane.app.ready import ReadyRun, make_ready
from wolfbane.app.run import RunEnd, inputs_of, record_session
from wolfbane.app.selection import Selected
from wolfbane.environments import Environment
from wolfbane.errors import WolfbaneError
from wolfbane.events.load_events import LoadStarted
from wolfbane.events.run_events import Listener
from wolfbane.inventory.documents import keep_with_run
from wolfbane.inventory.resolving import resolved
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.load.load_request import LoadRequest
from wolfbane.load.load_session import LoadSession
from wolfbane.load.profiles import find_profile
from wolfbane.results.runs import new_run
from wolfbane.selection import all_of, any_of, choose, parse
from wolfbane.selection.grammar import Term
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
        left.update(test.kind for test in tests if not find_kind(test.kind).can_be_loaded)
        kinds = any_of(Term("kind", name) for name in KINDS if find_kind(name).can_be_loaded)
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
    folder = new_run(ready.workspace.results)
    try:
        return asyncio.run(_session(ready, load, folder).look(folder))
    finally:
        shutil.rmtree(folder)


def carry_out_load(ready: ReadyRun, load: LoadRequest, *listeners: Listener) -> RunEnd:
    """Run a prepared load test. Listeners receive every event. Raises NothingChosen.

    ``status:`` ignores outcomes under load, so they are not stored as newest outcomes.
    """
    folder = new_run(ready.workspace.results)
    keep_with_run(ready.copies, ready.workspace.root, folder)
    try:
        session = _session(ready, load, folder)
    except WolfbaneError:
        shutil.rmtree(folder)
        raise
    return record_session(ready, folder, session, None, listeners)


def _session(ready: ReadyRun, load: LoadRequest, folder: Path) -> LoadSession:
    if ready.request.on:
        from wolfbane.load.cluster_load_session import ClusterLoadSession  # only where wanted

        return ClusterLoadSession(inputs_of(ready), folder.name, load, folder)
    return LoadSession(inputs_of(ready), folder.name, load, folder)
