"""Reads report entries from a launcher's files or output, live if the format is line by line."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from typing import Any

import msgspec

from wolfbane.formats.ctrf.reader import CtrfReader
from wolfbane.formats.reported import FormatError, ReportedTest, nesting_limit
from wolfbane.formats.tap.parser import TapReader
from wolfbane.formats.tap.reader import entry_of
from wolfbane.formats.xunit.reader import XunitReader
from wolfbane.kinds.bridge.runner.line_reading import BEGAN, LineReading
from wolfbane.model import Outcome

_OUTCOMES = {str(outcome): outcome for outcome in Outcome}
_NEWLINE = re.compile(rb"\n")
_LINE_ENDS = re.compile(rb"\r?\n|\r(?!\Z)")
"""A single carriage return ends a progress line; at the end of a piece, the next piece decides."""
Take = Callable[[ReportedTest], None]


class ReportReading:
    """Reads one stream in the bridge's format. All calls raise FormatError.

    ``live``: it is read while it is written, so the time between two entries is the duration of a
    test whose entry has none. ``began`` receives the tests that begin, if the launcher reports it.
    """

    def __init__(
        self,
        read: dict[str, Any],
        take: Take,
        began: Take = lambda entry: None,
        *,
        live: bool = False,
    ) -> None:
        self._take, self._began = take, began
        self._last = time.perf_counter() if live else None
        self._took: list[float] = []
        self._format = read["format"]
        self._xunit, self._ctrf = XunitReader(), CtrfReader()
        self._tap = TapReader()
        self._sent = 0
        self._rest = b""
        self._keys: dict[str, str] = read.get("keys", {})
        self._meanings: dict[str, str] = read.get("outcomes", {})
        self._lines = LineReading(read, take, self._begin, timed=self._timed)

    @nesting_limit()
    def feed(self, data: bytes) -> None:
        """Process a piece of the stream; complete entries are sent immediately."""
        if self._format == "xunit":
            self._tell(self._xunit.feed(data))
        elif self._format == "ctrf":
            self._tell(self._ctrf.feed(data))
        elif self._format != "exit":
            if self._format == "lines":
                ends = _LINE_ENDS
            else:
                ends = _NEWLINE
            *lines, self._rest = ends.split(self._rest + data)
            for line in lines:
                self._line(line.decode("utf-8", "replace").rstrip("\r"))

    @nesting_limit()
    def close(self, *, cut: bool = False) -> None:
        """The stream has ended. ``cut``: the launcher was stopped, so the last line may be a part
        of one.
        """
        if self._format == "xunit":
            self._xunit.close()
        elif self._format == "ctrf":
            self._tell(self._ctrf.close())
        else:
            if self._rest and not cut:
                self._line(self._rest.decode("utf-8", "replace").rstrip("\r"))
            self._lines.close()
            if self._format == "tap":
                self._close_tap()

    def _tell(self, entries: Iterable[ReportedTest]) -> None:
        for entry in entries:
            self._take(self._timed(entry))

    def _timed(self, entry: ReportedTest) -> ReportedTest:
        took = self._since_the_last()
        if took and not entry.seconds:
            return replace(entry, seconds=took)
        return entry

    def _since_the_last(self) -> float:
        """Seconds since the last call, if that is meaningful."""
        if self._last is None:
            return 0.0
        now = time.perf_counter()
        took, self._last = round(now - self._last, 6), now
        return took

    def _line(self, line: str) -> None:
        if self._format == "tap":
            self._tap.feed(line)
            known = len(self._tap.document.points)
            while len(self._took) < known:
                self._took.append(self._since_the_last())
            self._tell_points(known - 1)  # the newest may still get diagnostics
        elif self._format == "events":
            if line.strip():
                entry, began = _event(line, self._keys, self._meanings)
                self._begin(entry) if began else self._tell([entry])
        else:
            self._lines.line(line)

    def _begin(self, entry: ReportedTest) -> None:
        self._since_the_last()
        self._began(entry)

    def _tell_points(self, end: int) -> None:
        """Send the points up to this one that were not sent yet."""
        for number in range(self._sent, end):
            entry = entry_of(self._tap.document.points[number])
            took = 0.0
            if number < len(self._took):
                took = self._took[number]
            self._take(replace(entry, seconds=took) if took and not entry.seconds else entry)
        self._sent = max(self._sent, end)

    def _close_tap(self) -> None:
        document = self._tap.finish()
        self._tell_points(len(document.points))
        if document.skip_reason is not None and not document.points:
            self._take(ReportedTest("", Outcome.SKIPPED, message=document.skip_reason))
        if document.bail_out is not None:
            raise FormatError(f"the program bailed out: {document.bail_out}")
        if document.problems:
            raise FormatError(document.problems[0])


def _event(
    line: str, keys: Mapping[str, str], meanings: Mapping[str, str]
) -> tuple[ReportedTest, bool]:
    """A line of JSON: its name and outcome, and further facts; and whether the test only began."""

    def text(key: str) -> str:
        return str(data.get(keys.get(key, key), ""))

    try:
        data = msgspec.json.decode(line)
        word = str(data[keys.get("outcome", "outcome")])
        meaning = meanings.get(word, word)
        began = meaning == BEGAN
        seconds = float(data.get(keys.get("seconds", "seconds")) or 0)
        if thousandths := keys.get("milliseconds"):
            seconds = float(data.get(thousandths) or 0) / 1000
        entry = ReportedTest(
            str(data[keys.get("name", "name")]),
            Outcome.PASSED if began else _OUTCOMES[meaning],
            suite=text("package"),
            group=text("group"),
            file=text("file"),
            line=int(text("line") or 0),
            seconds=seconds,
            message=text("message"),
            detail=text("trace"),
            output=text("output"),
        )
    except (msgspec.DecodeError, ValueError, KeyError, TypeError) as error:
        message = f"not an event ({type(error).__name__}: {error}): {line[:120]}"
        raise FormatError(message) from None
    return entry, began
