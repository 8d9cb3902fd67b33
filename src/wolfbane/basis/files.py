"""Safe file access, while other programs may read or write the same files."""

from __future__ import annotations

import contextlib
import glob
import os
import stat
import time
from collections.abc import Iterator
from pathlib import Path

_NEVER = {"__pycache__", "node_modules"}
_MARKS_OF_OTHERS = {"pyvenv.cfg", "CACHEDIR.TAG"}  # an installed runtime; things made by tools
_LONG_AGO = 60.0
"""Seconds that are enough to write any file."""


def read_regular(path: Path) -> bytes:
    """The content of a regular file. Raises OSError, also if the path is not a regular file.

    Opening a pipe or a device may block.
    """
    if not stat.S_ISREG(path.stat().st_mode):
        raise OSError("it is not a regular file")
    return path.read_bytes()


def as_text(path: str) -> str:
    """A path that every report can contain: bytes that are not UTF-8 become visible escapes."""
    return path.encode("utf-8", "backslashreplace").decode()


def is_file(path: Path) -> bool:
    """Whether it is a file; a path that the system cannot look up (too long) is not."""
    try:
        return path.is_file()
    except (OSError, ValueError):
        return False


def walk(root: Path, folder: str) -> Iterator[str]:
    """Every file below a folder, relative to ``root``, without hidden and installed files."""
    try:
        entries = sorted(os.scandir(root / folder), key=lambda entry: entry.name)
    except OSError:
        return
    if any(entry.name in _MARKS_OF_OTHERS for entry in entries):
        return
    for entry in entries:
        if folder:
            inside = f"{folder}/{entry.name}"
        else:
            inside = entry.name
        if entry.name.startswith(".") or entry.name in _NEVER:
            continue
        if _is_folder(entry):
            if not entry.is_symlink():
                yield from walk(root, inside)
        else:  # a pipe or a link that leads nowhere, too: whoever reads it says what is wrong
            yield inside


def _is_folder(entry: os.DirEntry[str]) -> bool:
    try:
        return entry.is_dir()
    except OSError:  # a link that leads to itself
        return False


_IGNORED = "*\n"


def is_for_results(folder: Path) -> bool:
    """Whether a folder was created for results, or marked for them by the user."""
    try:
        return (folder / ".gitignore").read_text(encoding="utf-8") == _IGNORED
    except (OSError, UnicodeDecodeError):
        return False


def results_folder(path: Path) -> None:
    """Create a folder for results that only its owner can enter, and that git ignores.

    It may contain everything that tests print. A folder that exists keeps its mode. Raises OSError.
    """
    if not path.is_dir():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.mkdir(mode=0o700, exist_ok=True)
    ignore = path / ".gitignore"
    if not ignore.exists():
        ignore.write_text(_IGNORED, encoding="utf-8")


def write_whole(path: Path, text: str) -> None:
    """Write a file in one step, so that other processes never read an incomplete file.

    Raises OSError if the file cannot be written; the old content then stays.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    partial = path.with_name(f"{path.name}.{os.getpid()}")
    for other in path.parent.glob(f"{glob.escape(path.name)}.*"):
        if other.suffix[1:].isdecimal() and _is_old(other):
            other.unlink(missing_ok=True)  # who wrote it was killed before all was written
    try:
        partial.write_text(text, encoding="utf-8")
        partial.replace(path)
    except OSError:
        with contextlib.suppress(OSError):
            partial.unlink()
        raise


def _is_old(path: Path) -> bool:
    """Whether no process writes the file any more.

    A process id from another machine proves nothing.
    """
    try:
        return time.time() - path.stat().st_mtime > _LONG_AGO
    except FileNotFoundError:
        return False
