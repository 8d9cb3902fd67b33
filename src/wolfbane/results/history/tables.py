"""The tables of the history. Each change needs a migration in ``migrations/versions``."""

from __future__ import annotations

from sqlalchemy import (
    Boolean,
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
    false,
)

metadata = MetaData()

runs = Table(
    "runs",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String(80), nullable=False),
    Column("began", String(32), nullable=False, index=True),
    Column("seconds", Float, nullable=False),
    Column("exit_code", Integer, nullable=False),
    Column("target", String(200), nullable=False),
    Column("command", Text, nullable=False),
    Column("expression", Text, nullable=False),
    Column("counts", Text, nullable=False),
    Column("origin", String(200), nullable=False),
    Column("workspace", Text, nullable=False, server_default=""),
    Column("workspace_name", String(200), nullable=False, server_default=""),
    Column("reason", Text, nullable=False, server_default=""),
    Column("revision", String(200), nullable=False, server_default=""),
    Column("commit_hash", String(64), nullable=False, server_default=""),
    Column("changed", Boolean, nullable=False, server_default=false()),
    Column("version", Text, nullable=False, server_default=""),
    UniqueConstraint("workspace", "name"),
)

tests = Table(
    "tests",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("address", Text, nullable=False, unique=True),
    Column("suite", String(200), nullable=False),
    Column("place", Text, nullable=False, server_default=""),
    Column("environment", String(200), nullable=False, server_default=""),
    Index("tests_by_place", "place"),
)

results = Table(
    "results",
    metadata,
    Column("test_id", Integer, ForeignKey("tests.id"), primary_key=True, autoincrement=False),
    Column(
        "run_id",
        Integer,
        ForeignKey("runs.id", ondelete="CASCADE"),
        primary_key=True,
        autoincrement=False,
    ),
    Column("outcome", String(12), nullable=False),
    Column("seconds", Float, nullable=False),
    Column("attempts", Integer, nullable=False),
    Column("message", Text, nullable=False),
    Column("quarantined", Boolean, nullable=False, server_default=false()),
    Index("results_by_run", "run_id", "outcome"),
    sqlite_with_rowid=False,
)
