"""The worker of kind ``workflow``. It runs Arazzo workflows in Wolfbane's own interpreter."""

import gc

# Imports make many objects and no garbage: looking for some takes a tenth of the start.
gc.set_threshold(50_000)
