"""CTRF JSON: read and written."""
