"""Of which tests evidence is kept."""

OFF, FAILURES, ALL = "off", "failures", "all"
KEPT = (OFF, FAILURES, ALL)
