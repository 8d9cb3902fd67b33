"""Kind ``scenario``: feature files in plain language."""
