"""Wolfbane: run every suite of a team through one selection layer."""

__version__ = "0.1.0"
