"""Where the tests of a compiled program are in its source files."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path

_LOCK = re.compile(r"Mutex|RwLock|\.lock\(|serial\b|\blet _\w*(?:guard|lock)\b")
"""A lock, or the guard of one, also if a function of another file takes it."""


def file_of(source: str, given: str) -> str:
    modules = modules_of(source, given)
    if not modules:
        return source
    base = Path(source).parent.joinpath(*modules)
    flat = base.with_name(base.name + ".rs")
    return str(flat if flat.is_file() else base / "mod.rs")


def line_of(file: str, given: str) -> int:
    """The line of a test's function; 0 if the text does not show it."""
    function = re.compile(rf"\bfn\s+{re.escape(given.rsplit('::', maxsplit=1)[-1])}\b")
    for number, line in enumerate(_lines(file), 1):
        if given and function.search(line):
            return number
    return 0


def takes_a_lock(file: str) -> bool:
    """Whether a file's code takes a lock, because its tests must not run at the same time.

    Such a lock is in the memory of one process and does not affect other processes.
    """
    return any(_LOCK.search(line) for line in _lines(file))


@lru_cache(maxsize=8)
def _lines(file: str) -> Sequence[str]:
    try:
        return Path(file).read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return ()


def modules_of(source: str, given: str) -> list[str]:
    """The longest prefix of a test's modules that is a separate file."""
    path = given.split("::")[:-1]
    folder = Path(source).parent
    for length in range(len(path), 0, -1):
        base = folder.joinpath(*path[:length])
        if base.with_name(base.name + ".rs").is_file() or (base / "mod.rs").is_file():
            return path[:length]
    return []
