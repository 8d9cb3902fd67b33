"""Executes a plan: workers, time limits, crashes, events."""
