"""Workflows as a load: many users in one process, each with cookies and connections of its own."""
