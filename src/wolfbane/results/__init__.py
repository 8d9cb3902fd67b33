"""The stored results: one journal per run, and the newest outcome of every test."""
