"""Random API services that keep their own account, against the records of runs and loads."""
