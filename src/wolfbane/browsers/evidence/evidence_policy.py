"""Decides which tests keep their evidence."""

OFF, FAILURES, ALL = "off", "failures", "all"
KEPT = (OFF, FAILURES, ALL)
