"""The disk usage of runs, and the removal of old runs."""

from __future__ import annotations

import json
import shutil
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec

from wolfbane.basis.files import read_regular
from wolfbane.basis.units import seconds
from wolfbane.errors import InputError
from wolfbane.results.journal import goes_on
from wolfbane.results.record import SUMMARY_NAME
from wolfbane.workspace.checkouts import remove_checkouts
from wolfbane.workspace.settings import Workspace

EVIDENCE = "evidence"


class Kept(msgspec.Struct, frozen=True):
    """The folder of a run.

    Sizes are in bytes. ``began`` is taken from the folder's name, in local time.

    ``summary`` has its events ``started`` and ``finished``; empty for an interrupted run.
    """

    folder: Path
    began: datetime
    size: int
    evidence: int
    goes_on: bool = False
    summary: Mapping[str, Any] = msgspec.field(default_factory=dict)

    @property
    def name(self) -> str:
        """The run's name."""
        return self.folder.name


def kept_runs(results: Path) -> list[Kept]:
    """Every run's folder, the newest first; other folders are ignored."""
    runs = []
    for folder in sorted((results / "runs").glob("*"), reverse=True):
        try:
            began = datetime.strptime(folder.name[:15], "%Y%m%d-%H%M%S")
        except ValueError:
            continue
        sizes = _size(folder), _size(folder / EVIDENCE)
        runs.append(Kept(folder, began, *sizes, goes_on(folder), _summary(folder)))
    return runs


def _summary(folder: Path) -> dict[str, Any]:
    try:
        data = json.loads(read_regular(folder / SUMMARY_NAME))
    except (OSError, ValueError):
        return {}
    if isinstance(data, dict):
        return data
    return {}


def _size(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())


def outdated(
    runs: Sequence[Kept], keep: int | None, older_than: float | None, now: datetime
) -> list[Kept]:
    """The runs beyond the newest ``keep``, and those older than this number of seconds.

    With both, both must apply. Running runs are never included.
    """
    if keep is None:
        beyond = runs
    else:
        beyond = runs[keep:]
    limit = now - timedelta(seconds=older_than or 0)
    return [run for run in beyond if run.began <= limit and not run.goes_on]


def remove(run: Kept, *, evidence_only: bool = False) -> None:
    """Remove a run, or only the evidence of its tests. Raises OSError."""
    if not evidence_only:
        shutil.rmtree(run.folder)
    elif (run.folder / EVIDENCE).exists():
        shutil.rmtree(run.folder / EVIDENCE)


def remove_unused_checkouts(results: Path, runs: Sequence[Kept], *, dry_run: bool = False) -> int:
    """Remove the copies of git revisions that none of these runs use; returns their bytes.

    Raises OSError.
    """
    states = [(run.summary.get("started") or {}).get("suite_state") or {} for run in runs]
    needed = {state["commit"] for state in states if state.get("revision")}
    return remove_checkouts(results, needed, dry_run=dry_run)


def tidy(workspace: Workspace, now: datetime) -> list[str]:
    """Apply ``[keep]``; the history stores removed runs first. Returns the problems."""
    from wolfbane.results.history.opening import (
        open_history,  # takes a while: only where it is used
    )

    keep = workspace.settings.keep
    try:
        store, problems = open_history(workspace)
        kept = kept_runs(workspace.results)
        if keep.evidence:
            for run in outdated(kept, None, seconds(keep.evidence), now=now):
                remove(run, evidence_only=True)
        if keep.runs is not None:
            for run in outdated(kept, max(keep.runs, 1), None, now=now):
                remove(run)
        if keep.history:
            for run in outdated(kept_runs(workspace.results), None, seconds(keep.history), now=now):
                remove(run)  # else the history would take it in again
            limit = now.astimezone() - timedelta(seconds=seconds(keep.history))
            store.forget(limit.isoformat(timespec="seconds"))
        if keep.runs is not None or keep.history:
            remove_unused_checkouts(workspace.results, kept_runs(workspace.results))
    except (InputError, OSError) as error:
        return [f"cannot remove old runs: {error}"]
    return problems
