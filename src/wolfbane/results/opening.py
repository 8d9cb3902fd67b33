"""The history of a workspace, with all that its runs left behind taken in."""

from __future__ import annotations

from wolfbane.results.history_url import history_url
from wolfbane.results.store import Store
from wolfbane.results.taking import take_in_runs
from wolfbane.workspace.settings import Workspace


def open_history(workspace: Workspace) -> tuple[Store, list[str]]:
    """The store, up to date, and which runs could not be read. Raises InputError."""
    store = Store.open(workspace.results, history_url(workspace))
    return store, take_in_runs(store, workspace.results)
