"""The worker process of kind ``tap``. Runs in Wolfbane's own interpreter."""
