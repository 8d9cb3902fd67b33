"""Write files that other processes may be reading."""

from __future__ import annotations

import os
from pathlib import Path


def write_whole(path: Path, text: str) -> None:
    """Write a file in one step, so that another process never reads half of it."""
    path.parent.mkdir(parents=True, exist_ok=True)
    partial = path.with_name(f"{path.name}.{os.getpid()}")
    partial.write_text(text, encoding="utf-8")
    partial.replace(path)
