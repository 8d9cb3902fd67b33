"""The number of processors that this process can use."""

from __future__ import annotations

import os


def available_cores() -> int:
    """The processors that this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1
