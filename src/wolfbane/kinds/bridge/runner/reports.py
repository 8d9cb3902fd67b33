"""Finds the report files of one start. Ignores older files and files of other starts."""

from __future__ import annotations

import fcntl
import glob
import hashlib
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from wolfbane.formats.reported import FormatError, ReportedTest
from wolfbane.kinds.bridge.runner.reading import ReportReading

PIECE = 1 << 20
SCRATCH = "{scratch}"
_GROWING = frozenset({"events", "lines", "tap"})
"""Formats that a launcher may append to an existing file."""


@dataclass(frozen=True)
class _Seen:
    """The state of a file before a start: ``digest`` of its whole content, if it may grow."""

    stamp: tuple[int, int, int]
    digest: bytes


Take = Callable[[ReportedTest], None]


class Reports:
    """The reports of a start, each with the files that existed at its place before."""

    def __init__(self, reads: Sequence[dict[str, Any]], scratch: str) -> None:
        self._reports = [_Report(read, scratch) for read in reads]

    def read(self, taker: Callable[[dict[str, Any]], Take]) -> str:
        """Read the entries that were written since; returns the problem, if any.

        One report is sufficient: the selected tests may have written none at another place.
        """
        found = False
        try:
            for report in self._reports:
                found = report.read(taker(report.table)) or found
        except FormatError as error:
            return error.words
        except OSError as error:
            return f"{error.filename}: cannot read the file: {error.strerror}"
        places = " or ".join(report.table["report"] for report in self._reports)
        return "" if found else f"the launcher wrote no report to {places}"


class _Report:
    """The files at the place of one report at the time of creation."""

    def __init__(self, read: dict[str, Any], scratch: str) -> None:
        self.table = read
        self._pattern: str = read["report"].replace(SCRATCH, glob.escape(scratch))
        self._grows = read["format"] in _GROWING
        self._before = {path: self._seen(path) for path in self._matching()}

    def read(self, take: Take) -> bool:
        """Read the new data; returns whether there was any. Raises OSError and FormatError."""
        found = False
        for path, start in self._fresh():
            found = True
            _read_file(path, start, self.table, take)
        return found

    def _fresh(self) -> Iterator[tuple[str, int]]:
        """The files that were written since, and the start of the new part in each."""
        for path in self._matching():
            seen = self._before.get(path)
            if seen is None:
                yield path, 0
            elif _stamp(path) != seen.stamp:
                yield path, self._old(path, seen)

    def _old(self, path: str, seen: _Seen) -> int:
        """How many bytes of a file existed before, if the new data was appended."""
        size = seen.stamp[1]
        if not self._grows or os.stat(path).st_size <= size:
            return 0
        return size if _digest(path, size) == seen.digest else 0

    def _seen(self, path: str) -> _Seen:
        stamp = _stamp(path)
        return _Seen(stamp, _digest(path, stamp[1]) if self._grows else b"")

    def _matching(self) -> list[str]:
        return sorted(glob.glob(self._pattern, recursive=True))


def _stamp(path: str) -> tuple[int, int, int]:
    status = os.stat(path)
    return status.st_mtime_ns, status.st_size, status.st_ino


def _digest(path: str, size: int) -> bytes:
    """Of the first bytes of a file."""
    made = hashlib.blake2b()
    with Path(path).open("rb") as file:
        while size > 0 and (data := file.read(min(size, PIECE))):
            made.update(data)
            size -= len(data)
    return made.digest()


@contextmanager
def alone_at(places: Iterable[str]) -> Iterator[None]:
    """Wait until no other start in this folder has a report at this place.

    A path below the scratch folder belongs to one start, so no start waits for another.
    """
    if all(not place or SCRATCH in place for place in places):
        yield
        return
    folder = os.open(".", os.O_RDONLY)
    try:
        fcntl.flock(folder, fcntl.LOCK_EX)
        yield
    finally:
        os.close(folder)


def _read_file(path: str, start: int, read: dict[str, Any], take: Take) -> None:
    """Read a report in pieces, from byte ``start``. Raises OSError and FormatError."""
    reading = ReportReading(read, take)
    try:
        with Path(path).open("rb") as file:
            file.seek(start)
            while data := file.read(PIECE):
                reading.feed(data)
        reading.close()
    except FormatError as error:
        line = f":{error.line}" if error.line else ""
        raise FormatError(f"{path}{line}: {error.words}") from None
