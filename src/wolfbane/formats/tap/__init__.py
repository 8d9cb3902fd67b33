"""The Test Anything Protocol: read and written."""
