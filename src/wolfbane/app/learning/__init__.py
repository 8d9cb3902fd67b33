"""Creates a bridge from the commands that people already use."""
