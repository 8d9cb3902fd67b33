"""Adds the commit of a run's suites, and the version that the run tested."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Add the columns; existing runs have no values for them."""
    for column in (
        sa.Column("revision", sa.String(200), nullable=False, server_default=""),
        sa.Column("commit_hash", sa.String(64), nullable=False, server_default=""),
        sa.Column("changed", sa.Boolean, nullable=False, server_default=sa.false()),
        sa.Column("version", sa.Text, nullable=False, server_default=""),
    ):
        op.add_column("runs", column)


def downgrade() -> None:
    """Remove the columns."""
    for name in ("revision", "commit_hash", "changed", "version"):
        op.drop_column("runs", name)
