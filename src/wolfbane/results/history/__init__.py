"""The history of runs: a database that every run is taken into, and what it says over time."""
