"""The worker process of kinds whose files are executed. Runs in Wolfbane's own interpreter."""
