"""Reports of a run, for people and for other programs."""
