"""Kind ``program``: executables and scripts whose exit code is the outcome."""
