"""Everything before the first test: builds, services, probes, and collecting tests."""
