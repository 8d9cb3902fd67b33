"""Runs by the names that people give them: ``last``, ``previous@staging``, or a report file."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

import msgspec

from wolfbane.errors import InputError, Problem
from wolfbane.results.history.report_import import ORIGIN, read_report
from wolfbane.results.history.store import RunEntry, Store, TestEnd
from wolfbane.results.runs import PLACES, one_named

_MOST = 1000


class NamedRun(msgspec.Struct, frozen=True):
    """A run, and how its tests ended, by address.

    ``only`` is the environment that its name asks for; then ``ended`` has no test of another.
    """

    entry: RunEntry
    ended: Mapping[str, TestEnd]
    only: str = ""

    @property
    def environments(self) -> set[str]:
        """The environments that its tests ran in."""
        return {each.environment for each in self.ended.values()}


def run_named(store: Store, name: str) -> NamedRun:
    """The run that is meant. Raises InputError."""
    path = Path(name)
    if path.suffix and path.is_file():
        entry, ended = read_report(path)
        return NamedRun(entry, {each.address: each for each in ended})
    entries = store.runs(_MOST)
    if not entries:
        raise InputError(Problem("no run is on record"))
    entry, only = _entry(entries, name)
    return _with_results(store, entry, only)


def latest_two(store: Store) -> tuple[NamedRun, NamedRun]:
    """The newest run and the one before it that chose the same in the same environments.

    The older one is first. Raises InputError where there are no such two.
    """
    entries = [e for e in store.runs(_MOST) if not e.origin.startswith(ORIGIN)]
    if not entries:
        raise InputError(Problem("no run is on record here"))
    newest, *older = entries
    alike = (newest.expression, newest.target)
    before = next((e for e in older if (e.expression, e.target) == alike), None)
    if before is None:
        chose = f"{newest.expression}" + (f" in {newest.target}" if newest.target else "")
        raise InputError(
            Problem(
                f"no run before {newest.name} chose the same ({chose})",
                hint="name two runs: wolfbane compare previous last",
            )
        )
    return _with_results(store, before, ""), _with_results(store, newest, "")


def _with_results(store: Store, entry: RunEntry, only: str) -> NamedRun:
    ended = {e.address: e for e in store.results_of(entry.id)}
    kept = {a: e for a, e in ended.items() if not only or e.environment == only}
    return NamedRun(entry, kept, only)


def _entry(entries: list[RunEntry], name: str) -> tuple[RunEntry, str]:
    word, at, only = name.partition("@")
    if word in PLACES:
        entries = [e for e in entries if not e.origin.startswith(ORIGIN)]
    if at and word in PLACES:
        entries, name = [e for e in entries if only in e.target.split(",")], word
        if not entries:
            raise InputError(Problem(f"no run in environment '{only}' is on record"))
    else:
        only = ""
    meant = one_named([entry.name for entry in entries], name)
    return next(entry for entry in entries if entry.name == meant), only


def in_order(one: NamedRun, other: NamedRun) -> tuple[NamedRun, NamedRun]:
    """Both runs, the older one first."""
    began = [datetime.fromisoformat(run.entry.began) for run in (one, other)]
    return (one, other) if began[0] <= began[1] else (other, one)
