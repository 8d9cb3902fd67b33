"""Opens the history of a workspace, and adds all new run records to it."""

from __future__ import annotations

from wolfbane.results.history.database import NAME
from wolfbane.results.history.ingest import take_in_runs
from wolfbane.results.history.store import NOBODY, Store
from wolfbane.results.history.url import history_url
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


def open_history(workspace: Workspace, *, everybody: bool = False) -> tuple[Store, list[str]]:
    """The store, up to date, and warnings, such as runs that could not be read.

    ``everybody``: its queries cover all workspaces. Raises InputError.
    """
    url = history_url(workspace)
    mine, warning = identity_of(workspace) if url else (NOBODY, "")
    store = Store(workspace.results, url, mine)
    problems = [*filter(None, [warning]), *take_in_runs(store, workspace.results)]
    return (Store(workspace.results, url, mine, everybody=True) if everybody else store), problems
