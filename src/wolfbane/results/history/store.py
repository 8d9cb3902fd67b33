"""The history of runs in a database: SQLite by default, PostgreSQL by URL."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import IntegrityError

from wolfbane.results.history.database import Database
from wolfbane.results.history.entries import RunEntry, TestEnd
from wolfbane.results.history.tables import results, runs, tests
from wolfbane.workspace.identity import Identity

NOBODY = Identity()
_ENDING = (
    tests.c.address,
    tests.c.suite,
    results.c.outcome,
    results.c.seconds,
    results.c.attempts,
    results.c.message,
    tests.c.environment,
    results.c.quarantined,
)
"""The columns of a :class:`TestEnd`."""
_MANY = 500
"""Values in one query: SQLite allows 999."""


class Store:
    """The runs of a workspace. Every method raises InputError if the database cannot be used.

    In a shared database, ``mine`` selects the runs of this workspace; with ``everybody``, queries
    cover all workspaces.
    """

    def __init__(
        self, folder: Path, url: str = "", mine: Identity = NOBODY, *, everybody: bool = False
    ) -> None:
        self._database = Database(folder, url)
        self._mine = mine
        self._everybody = everybody

    @property
    def _ours(self) -> sa.ColumnElement[bool]:
        """The selected runs. Without an identity, the database belongs to the workspace."""
        if self._everybody or not self._mine.text:
            return sa.true()
        return runs.c.workspace == self._mine.text

    def names(self) -> set[str]:
        """The names of the workspace's runs."""
        with self._database.transaction() as connection:
            return set(connection.scalars(sa.select(runs.c.name).where(self._ours)))

    def claim(self, workspace: str, names: Collection[str] | None = None) -> int:
        """Assign runs of another workspace, by its identity, to this one; returns their number.

        Runs without a workspace have no identity. A run that already exists here stays.
        """
        here = sa.select(runs.c.name).where(self._ours)
        theirs = sa.and_(runs.c.workspace == workspace, runs.c.name.not_in(here))
        values = {"workspace": self._mine.text, "workspace_name": self._mine.name}
        with self._database.transaction() as connection:
            rows = connection.execute(sa.select(runs.c.id, runs.c.name).where(theirs))
            wanted = [number for number, name in rows if names is None or name in names]
            for start in range(0, len(wanted), _MANY):
                some = runs.c.id.in_(wanted[start : start + _MANY])
                connection.execute(runs.update().where(some).values(values))
        return len(wanted)

    def unclaimed(self) -> int:
        """The number of runs without a workspace, in a shared database."""
        if self._mine.text:
            return self.workspaces().get("", ("", 0))[1]
        return 0

    def workspaces(self) -> dict[str, tuple[str, int]]:
        """The workspaces in the database: title and number of runs, by identity."""
        query = sa.select(
            runs.c.workspace, sa.func.max(runs.c.workspace_name), sa.func.count()
        ).group_by(runs.c.workspace)
        with self._database.transaction() as connection:
            return {row[0]: (row[1], row[2]) for row in connection.execute(query)}

    def add(self, run: RunEntry, ended: Sequence[TestEnd]) -> bool:
        """Add a run with its results; False if it already exists."""
        row = {
            "name": run.name,
            "began": run.began,
            "seconds": run.seconds,
            "exit_code": run.exit_code,
            "target": run.target,
            "command": run.command,
            "expression": run.expression,
            "counts": json.dumps(run.counts),
            "origin": run.origin,
            "reason": run.reason,
            "workspace": self._mine.text,
            "workspace_name": self._mine.name[:200],
            "revision": run.revision[:200],
            "commit_hash": run.commit_hash,
            "changed": run.changed,
            "version": run.version,
        }
        with suppress(IntegrityError), self._database.transaction() as connection:
            there = sa.select(runs.c.id).where(runs.c.name == run.name, self._ours)
            if connection.scalar(there):
                return False
            number = connection.execute(runs.insert().values(row)).inserted_primary_key
            assert number is not None
            known = self._tests(connection, ended)
            rows = {
                known[each.address]: {
                    "test_id": known[each.address],
                    "run_id": number[0],
                    "outcome": each.outcome,
                    "seconds": each.seconds,
                    "attempts": each.attempts,
                    "message": each.message[:300],
                    "quarantined": each.quarantined,
                }
                for each in ended
            }
            if rows:
                connection.execute(results.insert(), list(rows.values()))
            return True
        return False  # Somebody else added it meanwhile.

    def _tests(self, connection: sa.Connection, ended: Sequence[TestEnd]) -> dict[str, int]:
        """The numbers of tests by address; unknown tests are added."""
        whole = {each.address: each for each in ended}
        known = self._known(connection, whole)
        new = [
            {"address": address, "suite": e.suite, "place": e.place, "environment": e.environment}
            for address, e in whole.items()
            if address not in known
        ]
        if new:
            insert = _ignoring(connection.dialect.name)
            connection.execute(insert, new)
            known = self._known(connection, whole)
        return known

    @staticmethod
    def _known(connection: sa.Connection, addresses: Iterable[str]) -> dict[str, int]:
        numbers: dict[str, int] = {}
        wanted = list(addresses)
        for start in range(0, len(wanted), _MANY):
            some = wanted[start : start + _MANY]
            query = sa.select(tests.c.address, tests.c.id).where(tests.c.address.in_(some))
            numbers.update({row[0]: row[1] for row in connection.execute(query)})
        return numbers

    def runs(self, limit: int) -> list[RunEntry]:
        """The newest runs, the newest first."""
        query = sa.select(runs).where(self._ours)
        query = query.order_by(runs.c.began.desc(), runs.c.id.desc()).limit(limit)
        with self._database.transaction() as connection:
            return [_entry(row) for row in connection.execute(query).mappings()]

    def runs_of(self, places: Sequence[str], limit: int) -> list[RunEntry]:
        """The newest runs with one of these tests, by place; the newest first."""
        entries: dict[int, RunEntry] = {}
        with self._database.transaction() as connection:
            for start in range(0, len(places), _MANY):
                some = sa.select(tests.c.id).where(tests.c.place.in_(places[start : start + _MANY]))
                theirs = sa.select(results.c.run_id).where(results.c.test_id.in_(some))
                query = sa.select(runs).where(runs.c.id.in_(theirs), self._ours)
                query = query.order_by(runs.c.began.desc(), runs.c.id.desc()).limit(limit)
                rows = connection.execute(query).mappings()
                entries.update({row["id"]: _entry(row) for row in rows})
        newest = sorted(entries.values(), key=lambda entry: (entry.began, entry.id), reverse=True)
        return newest[:limit]

    def variants(self, places: Sequence[str]) -> dict[str, list[str]]:
        """The addresses of tests in each of their environments, by place."""
        variants: dict[str, list[str]] = {test: [] for test in places}
        with self._database.transaction() as connection:
            for start in range(0, len(places), _MANY):
                query = sa.select(tests.c.place, tests.c.address).where(
                    tests.c.place.in_(places[start : start + _MANY])
                )
                for test, address in connection.execute(query).all():
                    variants[test].append(address)
        return {test: sorted(addresses) for test, addresses in variants.items()}

    def forget(self, before: str) -> int:
        """Remove the runs that started before an ISO 8601 time; returns their number."""
        with self._database.transaction() as connection:
            old = sa.and_(runs.c.began < before, self._ours)
            theirs = sa.select(runs.c.id).where(old)
            connection.execute(results.delete().where(results.c.run_id.in_(theirs)))
            return connection.execute(runs.delete().where(old)).rowcount

    def newest(self) -> list[TestEnd]:
        """The result of each test in its newest run."""
        last = (
            sa.select(results.c.test_id, sa.func.max(runs.c.began).label("began"))
            .join(runs, runs.c.id == results.c.run_id)
            .where(self._ours)
            .group_by(results.c.test_id)
            .subquery()
        )
        query = (
            sa.select(*_ENDING)
            .join(tests, tests.c.id == results.c.test_id)
            .join(runs, runs.c.id == results.c.run_id)
            .join(last, (last.c.test_id == tests.c.id) & (last.c.began == runs.c.began))
            .where(self._ours)
        )
        with self._database.transaction() as connection:
            return [TestEnd(*row) for row in connection.execute(query)]

    def results_of(self, run: int) -> list[TestEnd]:
        """The results of all tests of a run."""
        query = (
            sa.select(*_ENDING)
            .join(tests, tests.c.id == results.c.test_id)
            .where(results.c.run_id == run)
        )
        with self._database.transaction() as connection:
            return [TestEnd(*row) for row in connection.execute(query)]

    def history(
        self, addresses: Sequence[str], newest: Sequence[RunEntry]
    ) -> dict[str, list[tuple[int, TestEnd]]]:
        """The results of tests in these runs, by address: the run's number and the result."""
        endings: dict[str, list[tuple[int, TestEnd]]] = {address: [] for address in addresses}
        numbers = [run.id for run in newest]
        with self._database.transaction() as connection:
            wanted = list(self._known(connection, addresses).values())
            for start in range(0, len(wanted), _MANY):
                query = (
                    sa.select(results.c.run_id, *_ENDING)
                    .join(tests, tests.c.id == results.c.test_id)
                    .where(results.c.test_id.in_(wanted[start : start + _MANY]))
                    .where(results.c.run_id.in_(numbers))
                )
                for run, *ending in connection.execute(query).all():
                    ended = TestEnd(*ending)
                    endings[ended.address].append((run, ended))
        return endings


def _entry(row: Any) -> RunEntry:
    return RunEntry(**{**row, "counts": json.loads(row["counts"])})


def _ignoring(dialect: str) -> Any:
    """An insert of tests that keeps tests that another run added in the meantime."""
    from sqlalchemy.dialects import postgresql, sqlite

    insert = postgresql.insert if dialect == "postgresql" else sqlite.insert
    return insert(tests).on_conflict_do_nothing(index_elements=["address"])
