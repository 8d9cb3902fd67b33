"""Kind ``bridge``: any other launcher, described by a file."""
