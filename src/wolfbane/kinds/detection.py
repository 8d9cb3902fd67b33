"""What each kind looks for in a folder without settings."""

from __future__ import annotations

import re
from pathlib import Path


def holds(path: Path, pattern: re.Pattern[bytes]) -> bool:
    """Whether a file can be read and contains the pattern."""
    try:
        return path.is_file() and pattern.search(path.read_bytes()) is not None
    except OSError:
        return False
