"""Kind ``tap``: programs that print TAP."""
