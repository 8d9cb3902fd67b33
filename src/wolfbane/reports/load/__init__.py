"""The results of a load test as tables, charts and lines."""
