"""The mail about a run."""
