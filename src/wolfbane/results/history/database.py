"""Opens the history database, migrates it, and translates its errors."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import DatabaseError, IntegrityError, SQLAlchemyError

from wolfbane.basis.files import results_folder
from wolfbane.errors import InputError, Problem
from wolfbane.results.history import migrations

NAME = "history.sqlite"
REVISION = "0004"
_LOCK_TIMEOUT = 20
"""Seconds that SQLite waits for another run's write, and PostgreSQL may take to answer a call."""
_STATEMENT_TIMEOUT = 120
"""Seconds that PostgreSQL may take for a statement: long enough to migrate a large history."""
_MIGRATING = 5_026_003
"""The number of PostgreSQL's lock for a migration; any number works."""


class Database:
    """A connection to SQLite or PostgreSQL. Raises InputError if it cannot be used."""

    def __init__(self, folder: Path, url: str = "") -> None:
        self._file = None if url else folder / NAME
        try:
            self._engine = _engine(folder, url)
        except (SQLAlchemyError, ImportError, OSError) as error:
            raise InputError(Problem(f"cannot open the history: {_short(error)}")) from None
        self.name = self._file.name if self._file else self._engine.url.render_as_string()
        with self.transaction() as connection:
            self._bring_up_to_date(connection)

    @contextmanager
    def transaction(self) -> Iterator[sa.Connection]:
        """A connection whose changes are saved together or not at all."""
        try:
            with self._engine.begin() as connection:
                yield connection
        except IntegrityError:
            raise
        except DatabaseError as error:
            message = f"cannot use the history: {_short(error)}"
            hint = ""
            if self._file:
                hint = "move the file to another place; a new history will then be created"
            raise InputError(Problem(message, str(self._file or ""), hint=hint)) from None

    def _bring_up_to_date(self, connection: sa.Connection) -> None:
        """Migrate the tables to this version. Raises InputError for a newer one."""
        version = _version(connection)
        if version > REVISION:
            message = f"{self.name} was written by a newer version of Wolfbane (schema {version})"
            raise InputError(Problem(f"{message}; this version supports schema {REVISION}"))
        if version == REVISION:
            return
        if connection.dialect.name == "sqlite":
            connection.exec_driver_sql("BEGIN IMMEDIATE")
        else:
            connection.execute(sa.select(sa.func.pg_advisory_xact_lock(_MIGRATING)))
        if _version(connection) != REVISION:  # else another run was quicker
            _migrate(connection)


def _engine(folder: Path, url: str) -> sa.Engine:
    if not url:
        results_folder(folder)
    made = sa.make_url(_with_driver(url) if url else f"sqlite:///{folder / NAME}")
    sqlite = made.get_backend_name() == "sqlite"
    if sqlite:
        limit = {"timeout": _LOCK_TIMEOUT}
    else:
        limit = {"connect_timeout": _LOCK_TIMEOUT}
    if sqlite and made.database:
        _check_own(Path(made.database))
    engine = sa.create_engine(made, connect_args=limit)
    sa.event.listen(engine, "connect", _careful if sqlite else _limited)
    return engine


def _check_own(file: Path) -> None:
    """Raise InputError for a database with tables of another program.

    It is opened read-only, because the first connection for writing changes the file.
    """
    if not file.is_file():
        return
    try:
        with closing(sqlite3.connect(f"{file.absolute().as_uri()}?mode=ro", uri=True)) as opened:
            names = [name for (name,) in opened.execute("SELECT name FROM sqlite_master")]
    except sqlite3.Error:  # the connection for writing gives the reason
        return
    if names and "alembic_version" not in names:
        raise InputError(Problem("it is a database of another program", str(file)))


def _version(connection: sa.Connection) -> str:
    """The revision of the tables; empty if there are none yet."""
    if not sa.inspect(connection).has_table("alembic_version"):
        return ""
    return connection.scalar(sa.text("SELECT version_num FROM alembic_version")) or ""


def _limited(connection: Any, record: object) -> None:
    """Another program may hold a lock on the tables: no statement waits for ever."""
    with connection.cursor() as cursor:
        cursor.execute(f"SET statement_timeout = '{_STATEMENT_TIMEOUT}s'")
    connection.commit()


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
    """PostgreSQL through psycopg, for all forms of its URL."""
    for start in ("postgresql://", "postgres://"):
        if url.startswith(start):
            return "postgresql+psycopg://" + url.removeprefix(start)
    return url


def _short(error: BaseException) -> str:
    return str(getattr(error, "orig", None) or error).strip().partition("\n")[0]
