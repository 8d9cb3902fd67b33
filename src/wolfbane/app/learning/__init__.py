"""Work out a bridge from commands that people type already."""
