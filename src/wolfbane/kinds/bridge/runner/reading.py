"""Reads report entries from a launcher's files or output, live if the format is line by line."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from typing import Any

import msgspec

from wolfbane.formats.ctrf.reader import CtrfReader
from wolfbane.formats.reported import FormatError, ReportedTest, Text, nesting_limit
from wolfbane.formats.tap.parser import TapReader
from wolfbane.formats.tap.reader import entry_of
from wolfbane.formats.xunit.reader import XunitReader
from wolfbane.model import Outcome

_OUTCOMES = {str(outcome): outcome for outcome in Outcome}
_NEWLINE = re.compile(rb"\n")
_LINE_ENDS = re.compile(rb"\r?\n|\r(?!\Z)")
"""A single carriage return ends a progress line; at the end of a piece, the next piece decides."""
_COLOUR = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\))")
"""Control sequences (ECMA-48, 5.4), and strings for the terminal such as its title."""
_UNITS = {"us": 1e-6, "µs": 1e-6, "ms": 1e-3, "s": 1.0, "sec": 1.0, "min": 60.0, "m": 60.0}
_TIME = re.compile(rf"\s*(\d+(?:\.\d*)?|\.\d+)\s*(?:({'|'.join(_UNITS)})\b)?")
_JUDGED = (("failed", Outcome.FAILED), ("skipped", Outcome.SKIPPED), ("passed", Outcome.PASSED))
Take = Callable[[ReportedTest], None]


class ReportReading:
    """Reads one stream in the bridge's format. All calls raise FormatError.

    ``live``: it is read while it is written, so the time between two entries is the duration of a
    test whose entry has none.
    """

    def __init__(self, read: dict[str, Any], take: Take, *, live: bool = False) -> None:
        self._take = take
        self._last = time.perf_counter() if live else None
        self._took: list[float] = []
        self._format = read["format"]
        self._xunit, self._ctrf = XunitReader(), CtrfReader()
        self._tap = TapReader()
        self._sent = 0
        self._rest = b""
        self._output = read["output"]
        self._said = Text()
        self._waiting: ReportedTest | None = None
        self._keys: dict[str, str] = read.get("keys", {})
        self._meanings: dict[str, str] = read.get("outcomes", {})
        self._ignored = re.compile(read["ignore"]) if read.get("ignore") else None
        self._patterns = [(re.compile(read[k]), o) for k, o in _JUDGED if read[k]]

    @nesting_limit()
    def feed(self, data: bytes) -> None:
        """Process a piece of the stream; complete entries are sent immediately."""
        if self._format == "xunit":
            self._tell(self._xunit.feed(data))
        elif self._format == "ctrf":
            self._tell(self._ctrf.feed(data))
        elif self._format != "exit":
            ends = _LINE_ENDS if self._format == "lines" else _NEWLINE
            *lines, self._rest = ends.split(self._rest + data)
            for line in lines:
                self._line(line.decode("utf-8", "replace").rstrip("\r"))

    @nesting_limit()
    def close(self) -> None:
        """The stream has ended."""
        if self._format == "xunit":
            self._xunit.close()
        elif self._format == "ctrf":
            self._tell(self._ctrf.close())
        else:
            if self._rest:
                self._line(self._rest.decode("utf-8", "replace").rstrip("\r"))
            if self._format == "tap":
                self._close_tap()
            self._flush()

    def _tell(self, entries: Iterable[ReportedTest]) -> None:
        for entry in entries:
            self._take(self._timed(entry))

    def _timed(self, entry: ReportedTest) -> ReportedTest:
        took = self._since_the_last()
        return replace(entry, seconds=took) if took and not entry.seconds else entry

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
                self._tell([_event(line, self._keys, self._meanings)])
        else:
            self._lines(line)

    def _lines(self, line: str) -> None:
        """A line with a result, or a line of a test's output. Colours are ignored."""
        line = _COLOUR.sub("", line)
        if self._ignored and self._ignored.search(line):
            return
        for pattern, outcome in self._patterns:
            if match := pattern.search(line):
                self._found(self._timed(_matched(match, outcome)), line)
                return
        self._said.add(f"{line}\n")

    def _found(self, entry: ReportedTest, line: str) -> None:
        """An entry.

        If the bridge does not assign the other lines, a failure gets the lines around it.
        """
        before = str(self._said)
        self._flush()
        if self._output == "before":
            self._take(replace(entry, output=before))
        elif self._output == "after":
            self._waiting = entry
        elif entry.outcome.is_bad:
            self._waiting = replace(entry, output=f"{before}{line}\n")
        else:
            self._take(entry)

    def _flush(self) -> None:
        """Send the pending test with its output."""
        if self._waiting is not None:
            output = f"{self._waiting.output}{self._said}".strip("\n")
            self._take(replace(self._waiting, output=output))
        self._waiting, self._said = None, Text()

    def _tell_points(self, end: int) -> None:
        """Send the points up to this one that were not sent yet."""
        for number in range(self._sent, end):
            entry = entry_of(self._tap.document.points[number])
            took = self._took[number] if number < len(self._took) else 0.0
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


def _event(line: str, keys: Mapping[str, str], outcomes: Mapping[str, str]) -> ReportedTest:
    """A line of JSON: its name and outcome, and further facts."""

    def text(key: str) -> str:
        return str(data.get(keys.get(key, key), ""))

    try:
        data = msgspec.json.decode(line)
        word = str(data[keys.get("outcome", "outcome")])
        seconds = float(data.get(keys.get("seconds", "seconds")) or 0)
        if thousandths := keys.get("milliseconds"):
            seconds = float(data.get(thousandths) or 0) / 1000
        return ReportedTest(
            str(data[keys.get("name", "name")]), _OUTCOMES[outcomes.get(word, word)],
            group=text("group"), file=text("file"), line=int(text("line") or 0), seconds=seconds,
            message=text("message"), detail=text("trace"), output=text("output"),
        )  # fmt: skip
    except (msgspec.DecodeError, ValueError, KeyError, TypeError) as error:
        words = f"not an event ({type(error).__name__}: {error}): {line[:120]}"
        raise FormatError(words) from None


def _seconds(match: re.Match[str], groups: Mapping[str, str]) -> float:
    """The time in a line: in the unit after the number, or otherwise in seconds."""
    for group, unit in (("milliseconds", "ms"), ("seconds", "s")):
        if groups.get(group):
            time = _TIME.match(match.string, match.start(group))
            return float(time[1]) * _UNITS[time[2] or unit] if time else 0.0
    return 0.0


def _matched(match: re.Match[str], outcome: Outcome) -> ReportedTest:
    groups = {key: value or "" for key, value in match.groupdict().items()}
    return ReportedTest(
        groups["name"], outcome, group=groups.get("group", ""), file=groups.get("file", ""),
        seconds=_seconds(match, groups), message=groups.get("message", ""),
    )  # fmt: skip
