"""The width for texts: the width of the terminal, or the value of ``COLUMNS``."""

from __future__ import annotations

import os
import shutil
from typing import TextIO

PIPED_WIDTH = 80
"""Columns of prose if there is no terminal."""
WIDEST = 120
"""Maximum columns that are used of a terminal."""
UNBOUNDED = 10_000
"""Columns of a pipe if its reader set no width."""


def table_width(stream: TextIO) -> int:
    """Columns for tables: those of the terminal; without one, as many as a table needs."""
    if stream.isatty():
        return min(shutil.get_terminal_size().columns, WIDEST)
    given = os.environ.get("COLUMNS", "")
    return int(given) if given.isdecimal() and int(given) else UNBOUNDED
