"""Adds the workspace of a run, the reason for an early end, and the quarantine flag of a result.

Two workspaces may have runs of the same name.
"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"

_RUNS = (
    "id",
    "name",
    "began",
    "seconds",
    "exit_code",
    "target",
    "command",
    "expression",
    "counts",
    "origin",
)
_RESULTS = ("test_id", "run_id", "outcome", "seconds", "attempts", "message")


def upgrade() -> None:
    """Add the workspace; existing runs have none until they are claimed."""
    if op.get_bind().dialect.name == "sqlite":
        _rebuild()
        return
    for column in _new_columns():
        op.add_column("runs", column)
    op.add_column("results", _quarantined())
    op.drop_constraint("runs_name_key", "runs", type_="unique")
    op.create_unique_constraint("runs_by_workspace", "runs", ["workspace", "name"])


def _new_columns() -> list[sa.Column[str]]:
    return [
        sa.Column("workspace", sa.Text, nullable=False, server_default=""),
        sa.Column("workspace_name", sa.String(200), nullable=False, server_default=""),
        sa.Column("reason", sa.Text, nullable=False, server_default=""),
    ]


def _quarantined() -> sa.Column[bool]:
    return sa.Column("quarantined", sa.Boolean, nullable=False, server_default=sa.false())


def _rebuild() -> None:
    """SQLite cannot drop a constraint, and dropping a table empties those that refer to it.

    So the results are also built again, and their old table is dropped first.
    """
    _new_tables()
    for table, columns in (("runs", _RUNS), ("results", _RESULTS)):
        names = ", ".join(columns)
        op.execute(f"INSERT INTO new_{table} ({names}) SELECT {names} FROM {table}")
    op.drop_table("results")
    op.drop_table("runs")
    op.rename_table("new_runs", "runs")
    op.rename_table("new_results", "results")
    op.create_index("ix_runs_began", "runs", ["began"])
    op.create_index("results_by_run", "results", ["run_id", "outcome"])


def _new_tables() -> None:
    op.create_table(
        "new_runs",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("began", sa.String(32), nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        sa.Column("exit_code", sa.Integer, nullable=False),
        sa.Column("target", sa.String(200), nullable=False),
        sa.Column("command", sa.Text, nullable=False),
        sa.Column("expression", sa.Text, nullable=False),
        sa.Column("counts", sa.Text, nullable=False),
        sa.Column("origin", sa.String(200), nullable=False),
        *_new_columns(),
        sa.UniqueConstraint("workspace", "name"),
    )
    op.create_table(
        "new_results",
        sa.Column(
            "test_id",
            sa.Integer,
            sa.ForeignKey("tests.id"),
            primary_key=True,
            autoincrement=False,
        ),
        sa.Column(
            "run_id",
            sa.Integer,
            sa.ForeignKey("new_runs.id", ondelete="CASCADE"),
            primary_key=True,
            autoincrement=False,
        ),
        sa.Column("outcome", sa.String(12), nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        sa.Column("attempts", sa.Integer, nullable=False),
        sa.Column("message", sa.Text, nullable=False),
        _quarantined(),
        sqlite_with_rowid=False,
    )


def downgrade() -> None:
    """Not possible, because two workspaces may now have runs of the same name."""
    raise NotImplementedError("runs of several workspaces do not fit the older tables")
