"""The views of a run in a terminal."""
