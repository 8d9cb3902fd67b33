"""The worker process of kinds whose files are executed. Runs in our own interpreter."""
