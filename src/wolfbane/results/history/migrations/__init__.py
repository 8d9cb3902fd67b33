"""The Alembic migrations of the history's tables."""
