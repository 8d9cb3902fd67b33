"""Finds runs by name, such as ``last``, ``previous@staging``, or a report file."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

import msgspec
from msgspec.structs import replace

from wolfbane.errors import InputError, Problem
from wolfbane.results.history.entries import RunEntry, TestEnd
from wolfbane.results.history.report_import import ORIGIN, read_report
from wolfbane.results.history.store import Store
from wolfbane.results.runs import PLACES, one_named
from wolfbane.workspace.git import find_commit

_MOST = 1000
NEWEST = "last"


class NamedRun(msgspec.Struct, frozen=True):
    """A run, and the results of its tests, by address.

    ``only`` is the environment in its name; then ``ended`` has no tests of other environments.
    ``by_revision``: its name is a git revision.
    """

    entry: RunEntry
    ended: Mapping[str, TestEnd]
    only: str = ""
    by_revision: bool = False

    @property
    def environments(self) -> set[str]:
        """The environments of its tests."""
        return {each.environment for each in self.ended.values()}


def run_named(store: Store, name: str, root: Path) -> NamedRun:
    """The run with this name. A git revision of ``root`` means its newest run.

    Raises InputError.
    """
    path = Path(name)
    if path.suffix and path.is_file():
        entry, ended = read_report(path)
        return NamedRun(entry, {each.address: each for each in ended})
    entries = store.runs(_MOST)
    if not entries:
        raise InputError(Problem("no runs are recorded"))
    entry, only, by_revision = _entry(entries, name, root)
    return replace(_with_results(store, entry, only), by_revision=by_revision)


def latest_two(store: Store) -> tuple[NamedRun, NamedRun]:
    """The newest run and the latest earlier one with the same selection and environments.

    The older one is first. Raises InputError if there are no two such runs.
    """
    entries = [e for e in store.runs(_MOST) if not e.origin.startswith(ORIGIN)]
    if not entries:
        raise InputError(Problem("no runs are recorded here"))
    newest, *older = entries
    before = next((e for e in older if e.wanted == newest.wanted), None)
    if before is None:
        chose = f"{newest.expression}" + (f" in {newest.target}" if newest.target else "")
        if newest.revision:
            chose += f" at {newest.revision}"
        raise InputError(
            Problem(
                f"no run before {newest.name} has the same selection ({chose})",
                hint="give two runs, for example: wolfbane compare previous last",
            )
        )
    return _with_results(store, before, ""), _with_results(store, newest, "")


def _with_results(store: Store, entry: RunEntry, only: str) -> NamedRun:
    ended = {e.address: e for e in store.results_of(entry.id)}
    kept = {a: e for a, e in ended.items() if not only or e.environment == only}
    return NamedRun(entry, kept, only)


def _entry(entries: list[RunEntry], name: str, root: Path) -> tuple[RunEntry, str, bool]:
    by_revision = False
    word, at, only = name.partition("@")
    if word in PLACES:
        entries = [e for e in entries if not e.origin.startswith(ORIGIN)]
    elif match := _at_revision(entries, word, root):
        entries, word, by_revision = match, NEWEST, True
        name = f"{NEWEST}{at}{only}"
    if at and word in PLACES:
        entries, name = [e for e in entries if only in e.target.split(",")], word
        if not entries:
            raise InputError(Problem(f"no run in environment '{only}' is recorded"))
    else:
        only = ""
    meant = one_named([entry.name for entry in entries], name)
    return next(entry for entry in entries if entry.name == meant), only, by_revision


def _at_revision(entries: list[RunEntry], name: str, root: Path) -> list[RunEntry]:
    """The runs at a git revision: with ``--at``, or with unchanged files of its commit.

    None if it is not a revision. Raises InputError if no run has this revision.
    """
    if any(entry.name.startswith(name) for entry in entries):
        return []  # it is the name of a run
    commit = find_commit(root, name)
    matches = [
        entry
        for entry in entries
        if entry.revision == name or (commit and entry.commit_hash == commit and not entry.changed)
    ]
    if commit and not matches:
        hint = f"wolfbane run --at {name}"
        raise InputError(Problem(f"no run at revision '{name}' is recorded", hint=hint))
    return matches


def in_order(one: NamedRun, other: NamedRun) -> tuple[NamedRun, NamedRun]:
    """Both runs, the older one first; git revisions in the given order."""
    if one.entry.commit_hash != other.entry.commit_hash and one.by_revision and other.by_revision:
        return one, other
    began = [datetime.fromisoformat(run.entry.began) for run in (one, other)]
    if began[0] <= began[1]:
        return (one, other)
    return (other, one)
