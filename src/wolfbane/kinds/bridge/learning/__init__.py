"""Infers a bridge from commands, output and sources. Nothing here runs a launcher."""
