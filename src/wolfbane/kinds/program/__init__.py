"""Kind ``program``: executables and scripts, judged by their exit codes."""
