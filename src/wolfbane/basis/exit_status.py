"""Describes how a process ended."""

from __future__ import annotations

import signal


def how_it_ended(code: int | None) -> str:
    """The end of a process as text: its exit code, or the signal that ended it."""
    if code is None:
        return "still running"
    if code >= 0:
        return f"exit code {code}"
    try:
        return signal.Signals(-code).name
    except ValueError:
        return f"signal {-code}"
