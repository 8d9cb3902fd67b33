"""The workspace: its settings file, or the suites that are detected without one."""
