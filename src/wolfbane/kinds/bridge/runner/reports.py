"""Finds the report files of one start. Ignores older files and files of other starts."""

from __future__ import annotations

import fcntl
import glob
import os
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Self

from wolfbane.formats.reported import FormatError, ReportedTest
from wolfbane.kinds.bridge.runner.reading import ReportReading

PIECE = 1 << 20
SCRATCH = "{scratch}"
_GROWING = frozenset({"events", "lines", "tap"})
"""Formats that a launcher may append to an existing file."""
_Stamp = tuple[int, int, int, int]
Take = Callable[[ReportedTest], None]


class Reports:
    """The reports of a start, each with the files that existed at its place before.

    A file that a launcher may append to is moved away until the start has ended, because a new
    report may begin like the old one. As a context manager, it puts back what was not replaced.
    """

    def __init__(self, reads: Sequence[dict[str, Any]], scratch: str) -> None:
        self._reports = [_Report(read, scratch) for read in reads]

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        for report in self._reports:
            report.put_back()

    def read(
        self,
        taker: Callable[[dict[str, Any]], Take],
        beginner: Callable[[dict[str, Any]], Take],
        *,
        cut: bool,
    ) -> str:
        """Read the entries that were written since; returns the problem, if any.

        One report is sufficient: the selected tests may have written none at another place.
        ``cut``: the launcher did not end by itself, so the last line may be a part of one.
        """
        any_report, trouble = False, ""
        for report in self._reports:
            try:
                table = report.table
                any_report = report.read(taker(table), beginner(table), cut=cut) or any_report
            except FormatError as error:
                any_report, trouble = True, trouble or error.message
            except OSError as error:
                message = f"{error.filename}: cannot read the file: {error.strerror}"
                any_report, trouble = True, trouble or message
        places = " or ".join(report.table["report"] for report in self._reports)
        if any_report:
            return trouble
        return f"the launcher wrote no report to {places}"


class _Report:
    """The files at the place of one report at the time of creation."""

    def __init__(self, read: dict[str, Any], scratch: str) -> None:
        self.table = read
        self._pattern: str = read["report"].replace(SCRATCH, glob.escape(scratch))
        self._away: dict[str, str] = {}
        if read["format"] in _GROWING and SCRATCH not in read["report"]:
            folder = tempfile.mkdtemp(prefix="old-", dir=scratch)
            for number, path in enumerate(self._matching()):
                self._away[path] = shutil.move(path, os.path.join(folder, str(number)))
        self._before = {path: _stamp(path) for path in self._matching()}

    def put_back(self) -> None:
        """Restore the old files that the start did not replace."""
        for path, away in self._away.items():
            if not os.path.lexists(path):
                shutil.move(away, path)

    def read(self, take: Take, began: Take, *, cut: bool) -> bool:
        """Read the new files; returns whether there was any. Raises OSError and FormatError."""
        any_entry = False
        for path in self._matching():
            if self._before.get(path) != _stamp(path):
                any_entry = True
                _read_file(path, ReportReading(self.table, take, began), cut=cut)
        return any_entry

    def _matching(self) -> list[str]:
        paths = glob.glob(self._pattern, recursive=True)
        return sorted(path for path in paths if os.path.isfile(path))


def _stamp(path: str) -> _Stamp:
    status = os.stat(path)
    return status.st_mtime_ns, status.st_ctime_ns, status.st_size, status.st_ino


@contextmanager
def lock_report_path(places: Iterable[str]) -> Iterator[None]:
    """Wait until no other start in this folder has a report at this place.

    A path below the scratch folder belongs to one start, so no start waits for another.
    """
    if all(not path or SCRATCH in path for path in places):
        yield
        return
    folder = os.open(".", os.O_RDONLY)
    try:
        fcntl.flock(folder, fcntl.LOCK_EX)
        yield
    finally:
        os.close(folder)


def _read_file(path: str, reading: ReportReading, *, cut: bool) -> None:
    """Read a report in pieces. Raises OSError and FormatError."""
    try:
        with Path(path).open("rb") as file:
            while data := file.read(PIECE):
                reading.feed(data)
        reading.close(cut=cut)
    except FormatError as error:
        line = ""
        if error.line:
            line = f":{error.line}"
        raise FormatError(f"{path}{line}: {error.message}") from None
