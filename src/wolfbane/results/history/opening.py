"""Opens the history of a workspace, and adds all new run records to it."""

from __future__ import annotations

import os

from wolfbane.errors import InputError, Problem
from wolfbane.results.history.database import NAME
from wolfbane.results.history.ingest import take_in_runs
from wolfbane.results.history.store import NOBODY, Store
from wolfbane.results.history.url import VARIABLE, history_url
from wolfbane.results.newest import Newest
from wolfbane.workspace.identity import identity_of
from wolfbane.workspace.settings import Workspace


def newest_outcomes(workspace: Workspace) -> Newest:
    """The newest outcome of each test: those of the history if no run was recorded here.

    Raises InputError.
    """
    newest = Newest(workspace.caches)
    if newest.is_empty and (history_url(workspace) or (workspace.results / NAME).exists()):
        newest.learn(open_history(workspace)[0].newest())
    return newest


def _check_place(workspace: Workspace, url: str) -> None:
    """Raise InputError if the settings would create a file outside of the workspace.

    They may be from a stranger. The user's own variable may name any file.
    """
    prefix, _, name = url.partition("sqlite:///")
    if prefix or not name or os.environ.get(VARIABLE):
        return
    path = (workspace.root / name).resolve()
    if not path.is_relative_to(workspace.root.resolve()) and not path.exists():
        message = f"the history {url} in the settings is outside of the workspace"
        raise InputError(Problem(message, hint=f"if it is yours, set {VARIABLE}={url}"))


def open_history(workspace: Workspace, *, everybody: bool = False) -> tuple[Store, list[str]]:
    """The store, up to date, and warnings, such as runs that could not be read.

    ``everybody``: its queries cover all workspaces. Raises InputError.
    """
    url = history_url(workspace)
    _check_place(workspace, url)
    mine, warning = identity_of(workspace) if url else (NOBODY, "")
    store = Store(workspace.results, url, mine)
    problems = [*filter(None, [warning]), *take_in_runs(store, workspace.results)]
    return (Store(workspace.results, url, mine, everybody=True) if everybody else store), problems
