"""The worker process of kind ``cargo``. Runs in Wolfbane's own interpreter."""
