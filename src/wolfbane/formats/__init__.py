"""Readers and writers for open formats. They do no file access themselves."""
