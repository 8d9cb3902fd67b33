"""Everything before the first test: builds, services, readiness checks, and collecting tests."""
