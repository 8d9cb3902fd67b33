"""The width for tables. A list needs nothing else of the console, whose library loads slowly."""

from __future__ import annotations

import os
import shutil
from typing import TextIO

WIDEST = 120
"""Maximum columns that are used of a terminal."""
UNBOUNDED = 10_000
"""Columns of a pipe if its reader set no width."""


def table_width(stream: TextIO) -> int:
    """Columns for tables: those of the terminal; without one, as many as a table needs."""
    if stream.isatty():
        return min(shutil.get_terminal_size().columns, WIDEST)
    given = os.environ.get("COLUMNS", "")
    if given.isdecimal() and int(given):
        return int(given)
    return UNBOUNDED
