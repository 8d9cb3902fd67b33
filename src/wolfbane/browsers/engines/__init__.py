"""The browser engines: how each is found, started and driven."""
