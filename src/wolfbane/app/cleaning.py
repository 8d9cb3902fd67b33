"""Removes old runs from the disk on request."""

from __future__ import annotations

from datetime import datetime

import msgspec

from wolfbane.errors import InputError, Problem
from wolfbane.results.history.opening import open_history
from wolfbane.results.retention import (
    kept_runs,
    outdated,
    remove,
    remove_unused_checkouts,
)
from wolfbane.workspace.settings import Workspace


class RemovedRuns(msgspec.Struct, frozen=True):
    """The number of removed runs, their size in bytes, and problems with the history.

    ``copies`` are the bytes of copies of git revisions that no run uses any more.
    """

    runs: int
    size: int
    problems: list[str]
    copies: int = 0


def remove_runs(
    workspace: Workspace,
    keep: int | None,
    older_than: float | None,
    *,
    evidence_only: bool,
    dry_run: bool,
) -> RemovedRuns:
    """Remove the runs beyond the newest ``keep``, and those older than this number of seconds.

    The history stores the runs first. A dry run removes nothing. Raises InputError.
    """
    if keep is None and older_than is None:
        raise InputError(Problem("use --keep 20 or --older-than 30d to choose which runs to keep"))
    _, problems = open_history(workspace)
    runs = outdated(kept_runs(workspace.results), keep, older_than, now=datetime.now())
    if not dry_run:
        for run in runs:
            try:
                remove(run, evidence_only=evidence_only)
            except OSError as error:
                raise InputError(Problem(f"cannot remove run {run.name}: {error}")) from None
    gone = {run.name for run in runs}
    rest = [run for run in kept_runs(workspace.results) if run.name not in gone]
    copies = 0
    if not evidence_only:
        try:
            copies = remove_unused_checkouts(workspace.results, rest, dry_run=dry_run)
        except OSError as error:
            raise InputError(Problem(f"cannot remove copies of git revisions: {error}")) from None
    size = sum(run.evidence if evidence_only else run.size for run in runs)
    return RemovedRuns(runs=len(runs), size=size, problems=problems, copies=copies)
