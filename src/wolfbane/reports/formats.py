"""The names of report formats. Quick to import: a shell waits for them."""

NAMES = ("html", "xunit", "tap", "ctrf", "json", "csv", "markdown", "mail")
