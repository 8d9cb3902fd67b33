"""The history: a database of all runs, and queries over time."""
