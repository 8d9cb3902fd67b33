"""The typed events of a run and of a load test."""
