"""The history's migrations, step by step, for Alembic."""
