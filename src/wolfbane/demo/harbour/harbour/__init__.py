"""Saltmarsh Harbour: tides, berths and fees."""
