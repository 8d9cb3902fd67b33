"""Options and arguments that commands share."""
