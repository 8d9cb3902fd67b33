"""The workspace: its settings file, or what is detected without one."""
