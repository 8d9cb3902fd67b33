"""Reads the lines that a launcher prints: results, sections, and output of tests."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from wolfbane.formats.reported import ReportedTest, Text
from wolfbane.model import Outcome

_COLOUR = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\))")
"""Control sequences (ECMA-48, 5.4), and strings for the terminal such as its title."""
_UNITS = {"us": 1e-6, "µs": 1e-6, "ms": 1e-3, "s": 1.0, "sec": 1.0, "min": 60.0, "m": 60.0}
_TIME = re.compile(rf"\s*(\d+(?:\.\d*)?|\.\d+)\s*(?:({'|'.join(_UNITS)})\b)?")
_JUDGED = (("failed", Outcome.FAILED), ("skipped", Outcome.SKIPPED), ("passed", Outcome.PASSED))
BEGAN = "began"
"""The meaning of a word of an event: the test has begun."""
Take = Callable[[ReportedTest], None]


class LineReading:
    """Reads lines by the patterns of a table ``[read]``.

    Calls ``take`` with the results, and ``began`` with the tests that begin.
    """

    def __init__(
        self,
        read: Mapping[str, Any],
        take: Take,
        began: Take,
        timed: Callable[[ReportedTest], ReportedTest],
    ) -> None:
        self._sections = Sections(read, take)
        self._take, self._began, self._timed = self._sections.take, began, timed
        self._output = read["output"]
        self._said = Text()
        self._waiting: ReportedTest | None = None
        self._ignored = _compiled(read, "ignore")
        self._begins = _compiled(read, "began")
        self._patterns = [(re.compile(read[k]), o) for k, o in _JUDGED if read[k]]

    def line(self, line: str) -> None:
        """A line with a result, or a line of a test's output. Colours are ignored."""
        line = _COLOUR.sub("", line)
        if self._ignored and self._ignored.search(line):
            return
        if self._begins and (match := self._begins.search(line)):
            self._flush(keeps=self._output == "before")
            self._began(self._sections.placed(_matched(match, Outcome.PASSED)))
            return
        for pattern, outcome in self._patterns:
            if match := pattern.search(line):
                self._found(self._timed(_matched(match, outcome)), line)
                return
        if self._sections.shows(line):
            self._flush()
            self._sections.read(line)
            return
        self._said.add(f"{line}\n")

    def close(self) -> None:
        """The output has ended."""
        self._flush()
        self._sections.close()

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

    def _flush(self, *, keeps: bool = False) -> None:
        """Send the pending test with its output. ``keeps``: the output is of the next test."""
        if self._waiting is not None:
            output = f"{self._waiting.output}{self._said}".strip("\n")
            self._take(replace(self._waiting, output=output))
        self._waiting = None
        if not keeps:
            self._said = Text()


class Sections:
    """Lines that give the file, the group or the package of the results around them.

    A line that matches ``section`` comes before its results, one that matches ``section_end``
    after them.
    """

    def __init__(self, read: Mapping[str, Any], take: Take) -> None:
        self._send = take
        self._before, self._after = _compiled(read, "section"), _compiled(read, "section_end")
        self._current: Mapping[str, str] = {}
        self._held: list[ReportedTest] = []

    def take(self, entry: ReportedTest) -> None:
        """A result: sent with its section, as soon as that is known."""
        if self._after:
            self._held.append(self.placed(entry))
        else:
            self._send(self.placed(entry))

    def placed(self, entry: ReportedTest) -> ReportedTest:
        """A result with the facts of its section. Its package counts as its suite."""
        facts = self._current
        return replace(
            entry,
            file=entry.file or facts.get("file", ""),
            group=entry.group or facts.get("group", ""),
            suite=entry.suite or facts.get("package", ""),
        )

    def shows(self, line: str) -> bool:
        """Whether a line starts or ends a section."""
        return any(each and each.search(line) for each in (self._before, self._after))

    def read(self, line: str) -> None:
        """A line that starts or ends a section."""
        if self._after and (match := self._after.search(line)):
            self._current = _groups(match)
            self._release()
            self._current = {}
        elif self._before and (match := self._before.search(line)):
            self._release()
            self._current = _groups(match)

    def close(self) -> None:
        """The output has ended: the last results have no line after them."""
        self._release()

    def _release(self) -> None:
        for entry in self._held:
            self._send(self.placed(entry))
        self._held = []


def _compiled(read: Mapping[str, Any], key: str) -> re.Pattern[str] | None:
    if read.get(key):
        return re.compile(read[key])
    return None


def _groups(match: re.Match[str]) -> dict[str, str]:
    return {key: value or "" for key, value in match.groupdict().items()}


def _seconds(match: re.Match[str], groups: Mapping[str, str]) -> float:
    """The time in a line: in the unit after the number, or otherwise in seconds."""
    for group, unit in (("milliseconds", "ms"), ("seconds", "s")):
        if groups.get(group):
            time = _TIME.match(match.string, match.start(group))
            if time:
                return float(time[1]) * _UNITS[time[2] or unit]
            return 0.0
    return 0.0


def _matched(match: re.Match[str], outcome: Outcome) -> ReportedTest:
    groups = _groups(match)
    line = groups.get("line", "")
    return ReportedTest(
        groups["name"],
        outcome,
        group=groups.get("group", ""),
        file=groups.get("file", ""),
        line=int(line) if line.isdecimal() else 0,
        suite=groups.get("package", ""),
        seconds=_seconds(match, groups),
        message=groups.get("message", "").strip(),
    )
