"""xUnit-style XML: read and written."""
