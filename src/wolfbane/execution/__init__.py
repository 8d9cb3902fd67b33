"""Carry a plan out: workers, time limits, crashes, events."""
