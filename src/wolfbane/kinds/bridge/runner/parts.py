"""Combines report entries that are parts of one test: data rows, subtests."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from wolfbane.formats.reported import ReportedTest
from wolfbane.kinds.bridge.runner.emitter import ResultEmitter, ended, part_data
from wolfbane.kinds.bridge.runner.naming import fill
from wolfbane.kinds.worker.channel import Message
from wolfbane.model import NESTED, Outcome, Part

_LEFT_OUT = (Outcome.SKIPPED, Outcome.TODO, Outcome.BLOCKED)
_AT_ONCE = 500
"""Parts in one message."""


class Naming:
    """The bridge's naming rules for report entries: a test, or a part of a test."""

    def __init__(self, read: Mapping[str, Any]) -> None:
        self._template: str = read["name"]
        self._pattern = re.compile(read["part"]) if read["part"] else None

    @property
    def divides(self) -> bool:
        """Whether a test's own entry may be before or after those of its parts."""
        return self._pattern is not None

    def of(self, entry: ReportedTest) -> str:
        """The launcher's name for the test of an entry."""
        return self._called(entry, entry.name, entry.suite)

    def outer(self, entry: ReportedTest, called: str) -> Sequence[tuple[str, str]]:
        """The possible tests of a part, and its name in them: the most likely first.

        By the pattern, or because a suite of the report that contains it has the name of a test.
        """
        match = None
        if self._pattern:
            match = self._pattern.search(called)
        if match:
            candidates = [(match["test"], match["part"] or entry.name)]
        else:
            candidates = []
        if entry.suite:
            around = entry.suite.split(NESTED)
        else:
            around = []
        for depth in range(len(around) - 1, -1, -1):
            part = NESTED.join((*around[depth + 1 :], entry.name))
            suite = NESTED.join(around[:depth])
            candidates.append((self._called(entry, around[depth], suite), part))
        return candidates

    def _called(self, entry: ReportedTest, name: str, suite: str) -> str:
        fields = {"name": name, "group": entry.group, "suite": suite, "file": entry.file}
        return fill(self._template, fields).strip()


@dataclass
class Gathered:
    """The entries for one test so far: its own entry, if any, and its parts."""

    account: str
    own: ReportedTest | None = None
    parts: list[tuple[str, ReportedTest]] = field(default_factory=list)

    def whole(self) -> ReportedTest:
        """One entry for all: with the worst outcome, and the total time."""
        rows = [entry for _, entry in self.parts]
        if self.own:
            entries = [self.own, *rows]
        else:
            entries = rows
        own = self.own or replace(
            rows[0], outcome=_best(rows), message="", detail="", earlier=(), parts=(), seconds=0.0
        )
        own = replace(
            own,
            parts=(*own.parts, *(part_of(name, entry) for name, entry in self.parts)),
            seconds=own.seconds or sum(entry.seconds for entry in rows),
            output="".join(entry.output for entry in entries),
            attachments=tuple(path for entry in entries for path in entry.attachments),
        )
        bad = [entry for entry in rows if entry.outcome.is_bad]
        if own.outcome.is_bad:
            return own
        if not bad:
            flaky = next((entry for entry in rows if entry.outcome is Outcome.FLAKY), None)
            if flaky:
                return replace(own, outcome=flaky.outcome, earlier=flaky.earlier)
            return own
        failed = any(entry.outcome is Outcome.FAILED for entry in bad)
        if failed:
            worst = Outcome.FAILED
        else:
            worst = bad[0].outcome
        message = f"{len(bad)} of {len(rows)} failed"
        if len(bad) == 1 and bad[0].message:
            message += f": {bad[0].message}"
        return replace(own, outcome=worst, message=message, line=bad[0].line)


def part_of(name: str, entry: ReportedTest) -> Part:
    """An entry as a part, with all facts about its outcome."""
    text = f"{entry.message}\n{entry.detail}".strip()
    if entry.detail.startswith(entry.message):
        text = entry.detail
    flaky = entry.outcome is Outcome.FLAKY
    if flaky:
        outcome = Outcome.PASSED
    else:
        outcome = entry.outcome
    return Part(
        name=name,
        outcome=outcome,
        message="flaky" if flaky else text,
        seconds=entry.seconds,
        file="",
        line=entry.line,
    )


def _best(entries: Sequence[ReportedTest]) -> Outcome:
    """Passed, unless no part was run."""
    left_out = all(entry.outcome in _LEFT_OUT for entry in entries)
    if left_out:
        return entries[0].outcome
    return Outcome.PASSED


class FileParts:
    """The parts of a file that is one test. They are reported immediately, and counted."""

    def __init__(self, teller: ResultEmitter, address: str) -> None:
        self._teller, self._address = teller, address
        self._waiting: list[Message] = []
        self.total = self._failed = self._ran = 0
        self._first: Part | None = None
        self._flaky: ReportedTest | None = None

    def add(self, name: str, entry: ReportedTest) -> None:
        """Another part has ended."""
        part = part_of(name or self._address, entry)
        self._first = self._first or part
        if entry.outcome is Outcome.FLAKY:
            self._flaky = self._flaky or entry
        self.total += 1
        self._failed += entry.outcome.is_bad
        self._ran += entry.outcome not in _LEFT_OUT
        self._waiting.append(part_data(part))
        if len(self._waiting) >= _AT_ONCE:
            self.flush()

    def flush(self) -> None:
        """Send the tests that are waiting."""
        if self._waiting:
            self._teller.parts(self._address, self._waiting)
            self._waiting = []

    def verdict(self) -> Message:
        """The outcome of the file from its parts, and the message."""
        if self._failed:
            return {"outcome": "failed", "message": f"{self._failed} of {self.total} failed"}
        if self._flaky:
            return ended(self._flaky)
        if self._ran or self._first is None:
            return {"outcome": "passed"}
        return {"outcome": str(self._first.outcome), "message": self._first.message}
