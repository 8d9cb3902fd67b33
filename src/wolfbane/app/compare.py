"""Compares two runs, each from the recorded runs or from a report file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from wolfbane.errors import InputError, Problem
from wolfbane.inventory import open_inventory
from wolfbane.results.compare import Comparison, compare, earlier_seconds
from wolfbane.results.history.opening import open_history
from wolfbane.results.history.store import Store
from wolfbane.results.journal import JOURNAL_NAME
from wolfbane.results.quarantine import read_quarantine
from wolfbane.results.record import Record, read_record
from wolfbane.results.run_lookup import NamedRun, in_order, latest_two, run_named
from wolfbane.selection import Matcher, all_of, parse
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:
    from wolfbane.load.comparison import StepChange


def compare_runs(
    workspace: Workspace, names: Sequence[str], pick: Sequence[str]
) -> tuple[Comparison, list[str]]:
    """The comparison of two runs, and the problems of reading the history.

    ``names`` are two runs, or one that is compared with the newest run, or none: then the newest
    run is compared with the latest earlier run that has the same selection. A git revision means
    the newest run at that revision. ``pick`` selects tests by expressions. Raises InputError.
    """
    store, problems = open_history(workspace)
    before, after = _two_runs(store, names, workspace.root)
    quarantine = read_quarantine(workspace)
    if pick or quarantine.entries:
        tests = open_inventory(workspace).tests
    else:
        tests = []
    if pick:
        matches = Matcher(all_of([parse(text) for text in pick]))
        kept = {test.address for test in tests if matches(test)}
        before, after = _narrowed(before, kept), _narrowed(after, kept)
    quarantined = {test.address for test in tests if quarantine.entry(test)}
    apart = frozenset(
        each
        for run in (before, after)
        for address, ended in run.ended.items()
        if ended.place in quarantined
        for each in (address, ended.place)  # by place, where the environments differ
    )
    earlier = earlier_seconds(store, after.ended.values(), after.entry)
    return compare(before, after, earlier, quarantined=apart), problems


def _two_runs(store: Store, names: Sequence[str], root: Path) -> tuple[NamedRun, NamedRun]:
    if len(names) > 2:
        raise InputError(
            Problem(f"give at most two runs; {len(names)} were given: {', '.join(names)}")
        )
    if not names:
        return latest_two(store)
    both = [*names, "last"][:2]
    before, after = in_order(*(run_named(store, name, root) for name in both))
    two_files = len({Path(name).resolve() for name in both if Path(name).is_file()}) == 2
    if (before.entry.name, before.only) == (after.entry.name, after.only) and not two_files:
        raise InputError(Problem(f"'{both[0]}' and '{both[1]}' are the same run"))
    return before, after


def _narrowed(run: NamedRun, kept: set[str]) -> NamedRun:
    return replace(run, ended={a: e for a, e in run.ended.items() if e.place in kept})


def changes_of_load(workspace: Workspace, comparison: Comparison) -> list[StepChange]:
    """The changes of the steps between two load tests; empty if a run is not a load test."""
    loads = []
    for entry in (comparison.before, comparison.after):
        folder = workspace.results / "runs" / entry.name
        if (folder / JOURNAL_NAME).exists():
            record = read_record(folder)
        else:
            record = Record()
        loads.append(record.load)
    before, after = loads
    if before is None or after is None:
        return []
    from wolfbane.load.comparison import compare_loads  # NumPy takes a while

    return compare_loads(before, after)
