"""Runs, tests, and the result of each test in each run."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "runs",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(80), nullable=False, unique=True),
        sa.Column("began", sa.String(32), nullable=False, index=True),
        sa.Column("seconds", sa.Float, nullable=False),
        sa.Column("exit_code", sa.Integer, nullable=False),
        sa.Column("target", sa.String(200), nullable=False),
        sa.Column("command", sa.Text, nullable=False),
        sa.Column("expression", sa.Text, nullable=False),
        sa.Column("counts", sa.Text, nullable=False),
        sa.Column("origin", sa.String(200), nullable=False),
    )
    op.create_table(
        "tests",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("address", sa.Text, nullable=False, unique=True),
        sa.Column("suite", sa.String(200), nullable=False),
    )
    op.create_table(
        "results",
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
            sa.ForeignKey("runs.id", ondelete="CASCADE"),
            primary_key=True,
            autoincrement=False,
        ),
        sa.Column("outcome", sa.String(12), nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        sa.Column("attempts", sa.Integer, nullable=False),
        sa.Column("message", sa.Text, nullable=False),
        sqlite_with_rowid=False,
    )
    op.create_index("results_by_run", "results", ["run_id", "outcome"])


def downgrade() -> None:
    """Remove them again."""
    for table in ("results", "tests", "runs"):
        op.drop_table(table)
