"""Reads test files, in this process, or in several processes if there are many files."""

from __future__ import annotations

import signal
from collections.abc import Iterable, Sequence
from functools import partial
from itertools import chain
from pathlib import Path

import msgspec
from msgspec.structs import replace

from wolfbane.basis.files import as_text
from wolfbane.basis.this_machine import available_cores
from wolfbane.inventory.cache import FileState, look
from wolfbane.inventory.tags import with_source_tags
from wolfbane.kinds.compiled import source_text
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.model import TestFile

MANY = 400
"""Number of files from which several processes are worth their start."""
_PIECE = 50


class Scanned(msgspec.Struct, frozen=True):
    """The tests of a file (None: no tests), and its state; None if it cannot be read."""

    path: str
    seen: FileState | None
    file: TestFile | None


def scan_files(root: Path, suite: Suite, paths: Sequence[str]) -> Iterable[Scanned]:
    """Ask the suite's kind for the tests of each file, in the order of the paths."""
    cores = available_cores()
    if len(paths) < MANY or cores == 1:
        return _scan_some(root, suite, paths)
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor

    pieces = [paths[start : start + _PIECE] for start in range(0, len(paths), _PIECE)]
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(cores, context, initializer=_leave_interrupts) as pool:
        return list(chain.from_iterable(pool.map(partial(_scan_some, root, suite), pieces)))


def _leave_interrupts() -> None:
    """The parent process is also interrupted, and ends this one."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def _scan_some(root: Path, suite: Suite, paths: Sequence[str]) -> list[Scanned]:
    return [_scan(root, suite, path) for path in paths]


def _lost(suite: Suite, path: str, why: str) -> Scanned:
    file = TestFile(path, suite.name, suite.kind, complete=False, error=why, lost=True)
    return Scanned(path, None, file)


def _scan(root: Path, suite: Suite, path: str) -> Scanned:
    shown = as_text(path)
    if shown != path:
        return _lost(
            suite, shown, "the file name is not valid UTF-8, so it cannot be written to reports"
        )
    try:
        seen, source = look(root / path)
    except OSError as error:
        return _lost(suite, path, error.strerror or str(error))
    kind = find_kind(suite.kind)
    try:
        file = kind.scan(root, suite, path, source=source)
    except (RecursionError, MemoryError):
        return _lost(suite, path, "the content is nested too deeply")
    except OSError as error:  # something that it leads to
        return _lost(
            suite, path, f"cannot read a file that it refers to: {error.strerror or error}"
        )
    if file is not None:
        exact = kind.scan_is_exact and file.complete
        file = with_source_tags(replace(file, exact=exact), source_text(root, file.depends, source))
        if exact:
            file = replace(file, tests=tuple(replace(t, exact=True) for t in file.tests))
    return Scanned(path, seen, file)
