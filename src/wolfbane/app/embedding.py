"""The Python interface: opens a workspace, lists its tests, plans a run, and runs it."""

from __future__ import annotations

import asyncio
import warnings
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from wolfbane.app.ready import ReadyRun, make_ready
from wolfbane.app.run import RunPlan, finish_run, plan_run, start_run
from wolfbane.app.selection import Selected, select
from wolfbane.environments import resolve_each
from wolfbane.events.run_events import Event
from wolfbane.execution.recorded import recording
from wolfbane.inventory.selection_request import SelectionRequest
from wolfbane.model import Test
from wolfbane.selection import choose
from wolfbane.setup.run_request import RunRequest
from wolfbane.workspace import find
from wolfbane.workspace.settings import Workspace


def open_workspace(folder: str | Path = ".") -> OpenWorkspace:
    """Open the workspace in a folder or above it, as the command line does.

    Raises :class:`wolfbane.InputError` with everything that is wrong with its settings.
    """
    return OpenWorkspace(find.open_workspace(Path(folder).resolve(), given=folder != "."))


class OpenWorkspace:
    """An open workspace. Its tests can be listed, planned and run.

    ``paths``, ``pick`` and ``drop`` select tests as on the command line: a path is a file, a
    folder, a glob, ``FILE:LINE`` or an address; ``pick`` selects tests by an expression, such as
    ``"tag:smoke and not owner:quay"``; ``drop`` excludes the tests that match an expression. With
    ``everything``, the workspace's ``leave_out`` does not apply.
    """

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace

    @property
    def root(self) -> Path:
        """The folder of the workspace."""
        return self._workspace.root

    @property
    def suites(self) -> tuple[str, ...]:
        """The names of its suites."""
        return tuple(suite.name for suite in self._workspace.suites)

    def list(
        self, *paths: str, pick: str = "", drop: str = "", everything: bool = False
    ) -> list[Test]:
        """The tests that a selection matches, found by reading their sources. Runs nothing.

        Raises :class:`wolfbane.InputError` for a name that does not exist.
        """
        selected = self._select(_selection(paths, pick, drop, everything=everything))
        status = selected.newest.overall().status
        return list(choose(selected.choice, selected.inventory.tests, status).chosen)

    def plan(
        self,
        *paths: str,
        pick: str = "",
        drop: str = "",
        everything: bool = False,
        env: str = "",
        values: Sequence[str] = (),
        **request: Any,
    ) -> RunPlan:
        """The exact tests that a run would run, in order. Files are loaded, but no tests are run.

        Takes the arguments of :meth:`run`.
        """
        selection = _selection(paths, pick, drop, everything=everything)
        return plan_run(self._ready(selection, env, values, request=request))

    def run(
        self,
        *paths: str,
        pick: str = "",
        drop: str = "",
        everything: bool = False,
        env: str = "",
        values: Sequence[str] = (),
        **request: Any,
    ) -> Iterator[Event]:
        """Run tests, and yield each event as it happens; the last one is ``RunFinished``.

        ``env`` and ``values`` work like ``--env`` and ``--set``. ``request`` takes every field of
        :class:`wolfbane.RunRequest`, such as ``jobs=4`` or ``reports=("html=out.html",)``. The run
        is recorded like a run from the command line. If the caller stops iterating, the run ends:
        running tests are stopped, and the remaining tests do not run. Problems other than failed
        tests, such as a history that cannot be written, are Python warnings.

        Raises :class:`wolfbane.NothingChosen` if no tests are left to run, and
        :class:`wolfbane.InputError`.
        """
        selection = _selection(paths, pick, drop, everything=everything)
        return _events(self._ready(selection, env, values, request=request))

    def _select(self, selection: SelectionRequest, opened: Workspace | None = None) -> Selected:
        return select(opened or self._workspace, selection, Path.cwd().resolve())

    def _ready(
        self, selection: SelectionRequest, env: str, values: Sequence[str], request: dict[str, Any]
    ) -> ReadyRun:
        environments = resolve_each(self._workspace, env, values)
        return make_ready(
            self._workspace,
            environments,
            lambda opened: self._select(selection, opened),
            RunRequest(**request),
        )


def _selection(paths: Sequence[str], pick: str, drop: str, everything: bool) -> SelectionRequest:
    return SelectionRequest(
        paths=paths,
        fields={},
        pick=[pick] if pick else [],
        drop=[drop] if drop else [],
        everything=everything,
    )


def _events(ready: ReadyRun) -> Iterator[Event]:
    """Run the session step by step: its loop advances while the caller waits for an event."""
    folder, session = start_run(ready)
    # None follows the last event.
    events: asyncio.Queue[Event | None] = asyncio.Queue()
    session.listen(events.put_nowait)
    with recording(session, folder, ready.selected.newest) as recorded, asyncio.Runner() as runner:
        task = runner.get_loop().create_task(session.execute_async(folder))
        task.add_done_callback(lambda _: events.put_nowait(None))
        try:
            while (event := runner.run(events.get())) is not None:
                yield event
        finally:
            if not task.done():
                session.interrupt()
                runner.run(asyncio.wait([task]))
        task.result()
    for problem in (*recorded.problems, *finish_run(ready, recorded.record)):
        warnings.warn(problem, stacklevel=2)
