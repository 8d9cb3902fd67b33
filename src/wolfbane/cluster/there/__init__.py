"""A machine's side of a run on several machines."""
