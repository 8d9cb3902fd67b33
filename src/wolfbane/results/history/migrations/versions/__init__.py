"""How the history's tables came to be, step by step, for Alembic."""
