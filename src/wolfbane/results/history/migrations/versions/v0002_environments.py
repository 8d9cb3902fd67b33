"""Stores a test for each environment, together with its address without the environment."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Add the columns for environment and place, and fill them for existing tests."""
    with op.batch_alter_table("tests") as table:
        table.add_column(sa.Column("place", sa.Text, nullable=False, server_default=""))
        table.add_column(
            sa.Column("environment", sa.String(200), nullable=False, server_default="")
        )
    connection = op.get_bind()
    connection.execute(sa.text("UPDATE tests SET place = address"))
    named = list(connection.scalars(sa.text("SELECT DISTINCT target FROM runs WHERE target <> ''")))
    for label in dict.fromkeys(part for target in named for part in (target, *target.split(","))):
        _split(connection, label)
    for target in named:
        if "," not in target and "=" not in target:
            _move(connection, target)
    op.create_index("tests_by_place", "tests", ["place"])


def _split(connection: sa.Connection, label: str) -> None:
    """Tests of runs in several environments have the label in their addresses."""
    ending = f" @{label}"
    for number, address in connection.execute(sa.text("SELECT id, address FROM tests")).all():
        if address.endswith(ending):
            connection.execute(
                sa.text("UPDATE tests SET place = :place, environment = :label WHERE id = :id"),
                {"place": address.removesuffix(ending), "label": label, "id": number},
            )


def _move(connection: sa.Connection, label: str) -> None:
    """Results of runs in one environment belong to the tests in that environment."""
    theirs = (
        "SELECT r.test_id FROM results r JOIN runs ON runs.id = r.run_id WHERE runs.target = :label"
    )
    values = {"label": label, "ending": f" @{label}"}
    connection.execute(
        _text(
            "INSERT INTO tests (address, suite, place, environment) "
            "SELECT address || :ending, suite, address, :label FROM tests t "
            f"WHERE environment = '' AND id IN ({theirs}) "
            "AND NOT EXISTS (SELECT 1 FROM tests o WHERE o.address = t.address || :ending)"
        ),
        values,
    )
    connection.execute(
        _text(
            "UPDATE results SET test_id = (SELECT o.id FROM tests t JOIN tests o "
            "ON o.address = t.address || :ending WHERE t.id = results.test_id) "
            "WHERE run_id IN (SELECT id FROM runs WHERE target = :label) "
            "AND test_id IN (SELECT id FROM tests WHERE environment = '')"
        ),
        values,
    )


def _text(statement: str) -> sa.TextClause:
    """A statement with texts for its names, because PostgreSQL cannot always infer the type."""
    clause = sa.text(statement)
    names = [name for name in ("label", "ending") if f":{name}" in statement]
    return clause.bindparams(*(sa.bindparam(name, type_=sa.Text) for name in names))


def downgrade() -> None:
    """Remove the columns again; results stay."""
    op.drop_index("tests_by_place", "tests")
    with op.batch_alter_table("tests") as table:
        table.drop_column("place")
        table.drop_column("environment")
