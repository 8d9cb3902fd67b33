"""What a launcher left behind or printed, as entries: live where the format comes in lines."""

from __future__ import annotations

import glob
import os
import re
from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

import orjson

from wolfbane.formats.ctrf_reader import CtrfReader
from wolfbane.formats.entries import Entry, FormatError, Text
from wolfbane.formats.tap import Reader as TapReader
from wolfbane.formats.tap_entries import entry_of
from wolfbane.formats.xunit_reader import XunitReader
from wolfbane.model import Outcome

PIECE = 1 << 20
_OUTCOMES = {str(outcome): outcome for outcome in Outcome}
_JUDGED = (("failed", Outcome.FAILED), ("skipped", Outcome.SKIPPED), ("passed", Outcome.PASSED))
Take = Callable[[Entry], None]
Stamp = tuple[int, int, int]


class Reports:
    """The report files of one call: what was there before it is never read as its report."""

    def __init__(self, pattern: str) -> None:
        self._pattern = pattern
        self._before = {path: _stamp(path) for path in self._matching()}

    def fresh(self) -> list[str]:
        """The files that the call wrote."""
        return [path for path in self._matching() if _stamp(path) != self._before.get(path)]

    def _matching(self) -> list[str]:
        return sorted(glob.glob(self._pattern, recursive=True))


def _stamp(path: str) -> Stamp:
    told = os.stat(path)
    return told.st_mtime_ns, told.st_size, told.st_ino


class Reading:
    """Reads one stream in the bridge's format. All calls raise FormatError."""

    def __init__(self, read: dict[str, Any], take: Take) -> None:
        self._take = take
        self._format = read["format"]
        self._xunit, self._ctrf = XunitReader(), CtrfReader()
        self._tap = TapReader()
        self._told = 0
        self._rest = b""
        self._output = read["output"]
        self._said = Text()
        self._waiting: Entry | None = None
        self._patterns = [(re.compile(read[k]), o) for k, o in _JUDGED if read[k]]

    def feed(self, data: bytes) -> None:
        """Take a piece of the stream; whole entries are told at once."""
        if self._format == "xunit":
            self._tell(self._xunit.feed(data))
        elif self._format == "ctrf":
            self._tell(self._ctrf.feed(data))
        else:
            *lines, self._rest = (self._rest + data).split(b"\n")
            for line in lines:
                self._line(line.decode("utf-8", "replace").rstrip("\r"))

    def close(self) -> None:
        """The stream is over."""
        if self._format == "xunit":
            self._xunit.close()
        elif self._format == "ctrf":
            self._tell(self._ctrf.close())
        else:
            if self._rest:
                self._line(self._rest.decode("utf-8", "replace"))
            if self._format == "tap":
                self._close_tap()
            self._flush()

    def _tell(self, entries: Iterable[Entry]) -> None:
        for entry in entries:
            self._take(entry)

    def _line(self, line: str) -> None:
        if self._format == "tap":
            self._tap.feed(line)
            points = self._tap.document.points
            while self._told < len(points) - 1:  # the newest may still get diagnostics
                self._take(entry_of(points[self._told]))
                self._told += 1
        elif self._format == "events":
            if line.strip():
                self._take(_event(line))
        else:
            self._lines(line)

    def _lines(self, line: str) -> None:
        """A line that tells of a test, or one that a test said."""
        for pattern, outcome in self._patterns:
            if match := pattern.search(line):
                entry = _matched(match, outcome)
                if self._output == "after":
                    self._flush()
                    self._waiting = entry
                else:
                    self._take(replace(entry, output=str(self._said)))
                    self._said = Text()
                return
        if self._output:
            self._said.add(f"{line}\n")

    def _flush(self) -> None:
        """Tell the test that waited for what it said."""
        if self._waiting is not None:
            self._take(replace(self._waiting, output=str(self._said).strip("\n")))
        self._waiting, self._said = None, Text()

    def _close_tap(self) -> None:
        document = self._tap.finish()
        self._tell(entry_of(point) for point in document.points[self._told :])
        if document.bail_out is not None:
            raise FormatError(f"it bailed out: {document.bail_out}")
        if document.problems:
            raise FormatError(document.problems[0])


def read_file(path: str, read: dict[str, Any], take: Take) -> None:
    """Read a report file in pieces. Raises FormatError, with the file's name."""
    reading = Reading(read, take)
    try:
        with Path(path).open("rb") as file:
            while data := file.read(PIECE):
                reading.feed(data)
        reading.close()
    except OSError as error:
        raise FormatError(f"{path}: cannot be read: {error.strerror}") from None
    except FormatError as error:
        line = f":{error.line}" if error.line else ""
        raise FormatError(f"{path}{line}: {error.words}") from None


def _event(line: str) -> Entry:
    """A line of JSON: ``name`` and ``outcome``, and what else there is to say."""
    try:
        told = orjson.loads(line)
        return Entry(
            str(told["name"]), _OUTCOMES[told["outcome"]], group=str(told.get("group", "")),
            file=str(told.get("file", "")), line=int(told.get("line", 0)),
            seconds=float(told.get("seconds", 0)), message=str(told.get("message", "")),
            detail=str(told.get("trace", "")), output=str(told.get("output", "")),
        )  # fmt: skip
    except (ValueError, KeyError, TypeError) as error:
        words = f"not an event ({type(error).__name__}: {error}): {line[:120]}"
        raise FormatError(words) from None


def _matched(match: re.Match[str], outcome: Outcome) -> Entry:
    told = {key: value or "" for key, value in match.groupdict().items()}
    try:
        seconds = float(told.get("seconds") or 0)
    except ValueError:
        seconds = 0.0
    return Entry(
        told["name"], outcome, group=told.get("group", ""), file=told.get("file", ""),
        seconds=seconds, message=told.get("message", ""),
    )  # fmt: skip
