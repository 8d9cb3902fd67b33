"""Runs by the names that people give them: ``last``, ``previous@staging``, or a report file."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

from wolfbane.errors import InputError, Problem
from wolfbane.results.foreign import ORIGIN, read_report
from wolfbane.results.runs import PLACES, one_named
from wolfbane.results.store import Ended, RunEntry, Store

_MOST = 1000


def run_named(store: Store, name: str) -> tuple[RunEntry, dict[str, Ended]]:
    """A run and how its tests ended, by address. Raises InputError."""
    path = Path(name)
    if path.suffix and path.is_file():
        entry, ended = read_report(path)
        return entry, {each.address: each for each in ended}
    entries = store.runs(_MOST)
    if not entries:
        raise InputError(Problem("no run is on record"))
    entry = _entry(entries, name)
    return entry, {ended.address: ended for ended in store.results_of(entry.id)}


def _entry(entries: list[RunEntry], name: str) -> RunEntry:
    word, at, target = name.partition("@")
    if word in PLACES:
        entries = [e for e in entries if not e.origin.startswith(ORIGIN)]
    if at and word in PLACES:
        entries, name = [e for e in entries if target in e.target.split(",")], word
        if not entries:
            raise InputError(Problem(f"no run against '{target}' is on record"))
    meant = one_named([entry.name for entry in entries], name)
    return next(entry for entry in entries if entry.name == meant)


def in_order(
    one: tuple[RunEntry, Mapping[str, Ended]], other: tuple[RunEntry, Mapping[str, Ended]]
) -> tuple[tuple[RunEntry, Mapping[str, Ended]], tuple[RunEntry, Mapping[str, Ended]]]:
    """Both runs, the older one first."""
    began = [datetime.fromisoformat(entry.began) for entry, _ in (one, other)]
    return (one, other) if began[0] <= began[1] else (other, one)
