"""The worker process of kind ``program``. Runs in Wolfbane's own interpreter."""
