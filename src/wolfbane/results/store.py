"""The history of runs in a database: SQLite by default, PostgreSQL by URL."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import DatabaseError, IntegrityError, SQLAlchemyError

from wolfbane.errors import InputError, Problem
from wolfbane.results import migrations
from wolfbane.results.tables import results, runs, tests

NAME = "history.sqlite"
REVISION = "0002"
_LOCK = 20
"""Seconds that SQLite waits for another run's writing."""
_MANY = 500


@dataclass(frozen=True)
class Ended:
    """How a test ended in a run, shortly. ``message`` is its first line.

    ``address`` has its environment at its end, ``@staging``, even where the run had only one.
    """

    address: str
    suite: str
    outcome: str
    seconds: float
    attempts: int = 1
    message: str = ""
    environment: str = ""

    @property
    def place(self) -> str:
        """The address without the environment."""
        return self.address.removesuffix(f" @{self.environment}")


@dataclass(frozen=True)
class RunEntry:
    """A run on record. ``began`` is in ISO 8601 with a zone, ``seconds`` how long it took."""

    name: str
    began: str
    seconds: float
    exit_code: int
    counts: dict[str, int]
    target: str = ""
    command: str = ""
    expression: str = ""
    origin: str = "run"
    id: int = 0


class Store:
    """A history. Every call raises InputError where the database cannot be used."""

    def __init__(self, url: str, place: Path | None = None) -> None:
        self._place = place
        self.name = place.name if place else sa.make_url(url).render_as_string()
        options: dict[str, Any] = {"connect_args": {"timeout": _LOCK}} if place else {}
        self._engine = sa.create_engine(url, **options)
        if place:
            sa.event.listen(self._engine, "connect", _careful)
        with self._asking() as connection:
            self._bring_up_to_date(connection)

    @classmethod
    def open(cls, folder: Path, url: str = "") -> Store:
        """That of a results folder, or the one at ``url``. Raises InputError."""
        if url:
            try:
                return cls(_with_driver(url))
            except (SQLAlchemyError, ImportError) as error:
                raise InputError(
                    Problem(f"the history cannot be opened: {_short(error)}")
                ) from None
        folder.mkdir(parents=True, exist_ok=True)
        place = folder / NAME
        return cls(f"sqlite:///{place}", place)

    @contextmanager
    def _asking(self) -> Iterator[sa.Connection]:
        try:
            with self._engine.begin() as connection:
                yield connection
        except IntegrityError:
            raise
        except DatabaseError as error:
            words = f"the history cannot be used: {_short(error)}"
            hint = "move it away, and a new one is begun" if self._place else ""
            file = str(self._place) if self._place else ""
            raise InputError(Problem(words, file, hint=hint)) from None

    def _bring_up_to_date(self, connection: sa.Connection) -> None:
        """Bring the tables to this version's shape. Raises InputError on a newer one."""
        try:
            with connection.begin_nested():
                found = connection.execute(sa.text("SELECT version_num FROM alembic_version"))
                version = found.scalar() or ""
        except DatabaseError as error:
            if "not a database" in str(error) or "malformed" in str(error):
                raise
            version = ""
        if version > REVISION:
            words = f"{self.name} is from a newer version of Wolfbane ({version})"
            raise InputError(Problem(f"{words}; this one knows {REVISION}"))
        if version != REVISION:
            _migrate(connection)

    def names(self) -> set[str]:
        """The names of all runs."""
        with self._asking() as connection:
            return set(connection.scalars(sa.select(runs.c.name)))

    def add(self, run: RunEntry, ended: Sequence[Ended]) -> bool:
        """Add a run with its results; False where it is there already."""
        row = {
            "name": run.name, "began": run.began, "seconds": run.seconds,
            "exit_code": run.exit_code, "target": run.target, "command": run.command,
            "expression": run.expression, "counts": json.dumps(run.counts), "origin": run.origin,
        }  # fmt: skip
        with suppress(IntegrityError), self._asking() as connection:
            if connection.scalar(sa.select(runs.c.id).where(runs.c.name == run.name)):
                return False
            number = connection.execute(runs.insert().values(row)).inserted_primary_key
            assert number is not None
            known = self._tests(connection, ended)
            rows = {
                known[each.address]: {
                    "test_id": known[each.address], "run_id": number[0],
                    "outcome": each.outcome, "seconds": each.seconds,
                    "attempts": each.attempts, "message": each.message[:300],
                }
                for each in ended
            }  # fmt: skip
            if rows:
                connection.execute(results.insert(), list(rows.values()))
            return True
        return False  # Somebody else added it meanwhile.

    def _tests(self, connection: sa.Connection, ended: Sequence[Ended]) -> dict[str, int]:
        """The numbers of tests by address; those not known yet are added."""
        whole = {each.address: each for each in ended}
        known = self._known(connection, whole)
        new = [
            {"address": address, "suite": e.suite, "place": e.place, "environment": e.environment}
            for address, e in whole.items() if address not in known
        ]  # fmt: skip
        if new:
            insert = _ignoring(connection.dialect.name)
            connection.execute(insert, new)
            known = self._known(connection, whole)
        return known

    @staticmethod
    def _known(connection: sa.Connection, addresses: Iterable[str]) -> dict[str, int]:
        found: dict[str, int] = {}
        wanted = list(addresses)
        for start in range(0, len(wanted), _MANY):
            some = wanted[start : start + _MANY]
            query = sa.select(tests.c.address, tests.c.id).where(tests.c.address.in_(some))
            found.update({row[0]: row[1] for row in connection.execute(query)})
        return found

    def runs(self, limit: int) -> list[RunEntry]:
        """The newest runs, the newest first."""
        query = sa.select(runs).order_by(runs.c.began.desc(), runs.c.id.desc()).limit(limit)
        with self._asking() as connection:
            return [_entry(row) for row in connection.execute(query).mappings()]

    def runs_of(self, places: Sequence[str], limit: int) -> list[RunEntry]:
        """The newest runs that one of these tests, by its place, was in; the newest first."""
        found: dict[int, RunEntry] = {}
        with self._asking() as connection:
            for start in range(0, len(places), _MANY):
                some = sa.select(tests.c.id).where(tests.c.place.in_(places[start : start + _MANY]))
                theirs = sa.select(results.c.run_id).where(results.c.test_id.in_(some))
                query = sa.select(runs).where(runs.c.id.in_(theirs))
                query = query.order_by(runs.c.began.desc(), runs.c.id.desc()).limit(limit)
                rows = connection.execute(query).mappings()
                found.update({row["id"]: _entry(row) for row in rows})
        newest = sorted(found.values(), key=lambda entry: (entry.began, entry.id), reverse=True)
        return newest[:limit]

    def variants(self, places: Sequence[str]) -> dict[str, list[str]]:
        """The addresses of tests in each environment that they ran in, by their places."""
        found: dict[str, list[str]] = {place: [] for place in places}
        with self._asking() as connection:
            for start in range(0, len(places), _MANY):
                query = sa.select(tests.c.place, tests.c.address).where(
                    tests.c.place.in_(places[start : start + _MANY])
                )
                for place, address in connection.execute(query):
                    found[place].append(address)
        return {place: sorted(addresses) for place, addresses in found.items()}

    def forget(self, before: str) -> int:
        """Take away the runs that began before an ISO 8601 time; how many there were."""
        with self._asking() as connection:
            old = sa.select(runs.c.id).where(runs.c.began < before)
            connection.execute(results.delete().where(results.c.run_id.in_(old)))
            return connection.execute(runs.delete().where(runs.c.began < before)).rowcount

    def results_of(self, run: int) -> list[Ended]:
        """How every test of a run ended."""
        query = (
            sa.select(tests.c.address, tests.c.suite, results.c.outcome, results.c.seconds,
                      results.c.attempts, results.c.message, tests.c.environment)
            .join(tests, tests.c.id == results.c.test_id)
            .where(results.c.run_id == run)
        )  # fmt: skip
        with self._asking() as connection:
            return [Ended(*row) for row in connection.execute(query)]

    def history(
        self, addresses: Sequence[str], newest: Sequence[RunEntry]
    ) -> dict[str, list[tuple[int, Ended]]]:
        """How tests ended in these runs, by address: the run's number and the ending."""
        found: dict[str, list[tuple[int, Ended]]] = {address: [] for address in addresses}
        numbers = [run.id for run in newest]
        with self._asking() as connection:
            wanted = list(self._known(connection, addresses).values())
            for start in range(0, len(wanted), _MANY):
                query = (
                    sa.select(tests.c.address, results.c.run_id, tests.c.suite, results.c.outcome,
                              results.c.seconds, results.c.attempts, results.c.message,
                              tests.c.environment)
                    .join(tests, tests.c.id == results.c.test_id)
                    .where(results.c.test_id.in_(wanted[start : start + _MANY]))
                    .where(results.c.run_id.in_(numbers))
                )  # fmt: skip
                for address, run, *ending in connection.execute(query):
                    found[address].append((run, Ended(address, *ending)))
        return found


def _entry(row: Any) -> RunEntry:
    return RunEntry(**{**row, "counts": json.loads(row["counts"])})


def _ignoring(dialect: str) -> Any:
    """An insert of tests that leaves alone what another run added meanwhile."""
    from sqlalchemy.dialects import postgresql, sqlite

    insert = postgresql.insert if dialect == "postgresql" else sqlite.insert
    return insert(tests).on_conflict_do_nothing(index_elements=["address"])


def _careful(connection: Any, record: object) -> None:
    connection.execute("PRAGMA journal_mode=WAL")
    connection.execute("PRAGMA foreign_keys=ON")


def _migrate(connection: sa.Connection) -> None:
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(migrations.__file__).parent))
    config.attributes["connection"] = connection
    command.upgrade(config, "head")


def _with_driver(url: str) -> str:
    """PostgreSQL through psycopg, however its URL begins."""
    for start in ("postgresql://", "postgres://"):
        if url.startswith(start):
            return "postgresql+psycopg://" + url.removeprefix(start)
    return url


def _short(error: BaseException) -> str:
    return str(getattr(error, "orig", None) or error).strip().partition("\n")[0]
