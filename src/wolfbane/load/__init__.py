"""API suites as load: its shape, its limits, and the figures that come of it."""
