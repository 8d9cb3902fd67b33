"""Runs in the suite's own interpreter: Python 3.8, standard library only."""
