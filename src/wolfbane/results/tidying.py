"""Take away what the settings do not want to keep any longer."""

from __future__ import annotations

from datetime import datetime, timedelta

from wolfbane.errors import InputError
from wolfbane.results.keeping import kept_runs, outdated, remove
from wolfbane.units import seconds
from wolfbane.workspace.settings import Workspace


def tidy(workspace: Workspace, now: datetime) -> list[str]:
    """Follow ``[keep]``; the history takes in what goes. Returns what went wrong."""
    from wolfbane.results.opening import open_history  # takes a while: only where it is used

    keep = workspace.settings.keep
    try:
        store, problems = open_history(workspace)
        kept = kept_runs(workspace.results)
        if keep.evidence:
            for run in outdated(kept, None, seconds(keep.evidence), now):
                remove(run, evidence_only=True)
        if keep.runs is not None:
            for run in outdated(kept, max(keep.runs, 1), None, now):
                remove(run)
        if keep.history:
            for run in outdated(kept_runs(workspace.results), None, seconds(keep.history), now):
                remove(run)  # else the history would take it in again
            limit = now.astimezone() - timedelta(seconds=seconds(keep.history))
            store.forget(limit.isoformat(timespec="seconds"))
    except (InputError, OSError) as error:
        return [f"old runs cannot be taken away: {error}"]
    return problems
