"""Basic tools for all rooms: files, units, tables of settings, exit codes, processors."""
