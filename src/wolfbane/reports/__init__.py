"""What a run looks like to people and to other programs."""
