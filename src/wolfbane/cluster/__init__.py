"""Runs on several machines: sends files to them, runs tests there, and collects results."""
