"""Load tests with API suites: the shape of the load, its limits, and its results."""
