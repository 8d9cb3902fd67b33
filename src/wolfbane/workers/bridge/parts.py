"""Tests of which a report tells part by part: rows of data, subtests."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from wolfbane.formats.entries import Entry
from wolfbane.model import NESTED, Outcome, Part
from wolfbane.workers.bridge.telling import Teller, part_told
from wolfbane.workers.channel import Message

_AT_ONCE = 500
"""Parts in one message."""


class Naming:
    """What a report's entries are called, by the bridge: a test, or a part of one."""

    def __init__(self, read: Mapping[str, Any]) -> None:
        self._template: str = read["name"]
        self._pattern = re.compile(read["part"]) if read["part"] else None

    @property
    def divides(self) -> bool:
        """Whether a test's own entry may come before or after those of its parts."""
        return self._pattern is not None

    def of(self, entry: Entry) -> str:
        """What the launcher calls the test of an entry."""
        return self._called(entry, entry.name, entry.suite)

    def outer(self, entry: Entry, called: str) -> Sequence[tuple[str, str]]:
        """Of which tests an entry may be a part, and what that is called: the likeliest first.

        By the pattern, or since a suite of the report that it is in is called as a test.
        """
        match = self._pattern.search(called) if self._pattern else None
        found = [(match["test"], match["part"] or entry.name)] if match else []
        around = entry.suite.split(NESTED) if entry.suite else []
        for depth in range(len(around) - 1, -1, -1):
            part = NESTED.join((*around[depth + 1 :], entry.name))
            suite = NESTED.join(around[:depth])
            found.append((self._called(entry, around[depth], suite), part))
        return found

    def _called(self, entry: Entry, name: str, suite: str) -> str:
        fields = {"name": name, "group": entry.group, "suite": suite, "file": entry.file}
        return self._template.format(**fields)


@dataclass
class Gathered:
    """What a report said of one test so far: its own entry, if it has one, and its parts."""

    account: str
    own: Entry | None = None
    parts: list[tuple[str, Entry]] = field(default_factory=list)

    def whole(self) -> Entry:
        """One entry for all: it is as bad as its worst part, and took as long as they all took."""
        entries = [entry for _, entry in self.parts]
        own = self.own or _joined(entries)
        told = tuple(
            Part(name, each.outcome, _said(each), each.seconds, "", each.line)
            for name, each in self.parts
        )
        seconds = own.seconds or sum(entry.seconds for entry in entries)
        own = replace(own, parts=(*own.parts, *told), seconds=seconds)
        bad = [entry for entry in entries if entry.outcome.is_bad]
        if own.outcome.is_bad or not bad:
            return own
        failed = any(entry.outcome is Outcome.FAILED for entry in bad)
        worst = Outcome.FAILED if failed else bad[0].outcome
        words = f"{len(bad)} of {len(entries)} failed"
        if len(bad) == 1 and bad[0].message:
            words += f": {bad[0].message}"
        return replace(own, outcome=worst, message=words, line=bad[0].line)


def _said(entry: Entry) -> str:
    """All that an entry says of how it ended."""
    if entry.detail.startswith(entry.message):
        return entry.detail
    return f"{entry.message}\n{entry.detail}".strip()


class FileParts:
    """The parts of a file that is the test: told as they come, and counted."""

    def __init__(self, teller: Teller, address: str) -> None:
        self._teller, self._address = teller, address
        self._waiting: list[Message] = []
        self.total = self.failed = self.ran = 0
        self._left_out = ("errored", "")

    def add(self, name: str, entry: Entry) -> None:
        """One more has ended."""
        message = _said(entry)
        if not self.total:
            self._teller.begin(self._address)
            self._left_out = (str(entry.outcome), message)
        self.total += 1
        self.failed += entry.outcome.is_bad
        self.ran += entry.outcome not in (Outcome.SKIPPED, Outcome.TODO)
        part = Part(name or self._address, entry.outcome, message, entry.seconds, "", entry.line)
        self._waiting.append(part_told(part))
        if len(self._waiting) >= _AT_ONCE:
            self.flush()

    def flush(self) -> None:
        """Tell those that wait to be told."""
        if self._waiting:
            self._teller.parts(self._address, self._waiting)
            self._waiting = []

    def verdict(self) -> tuple[str, str]:
        """How the file ended by its parts, and what there is to say of that."""
        if self.failed:
            return "failed", f"{self.failed} of {self.total} failed"
        return ("passed", "") if self.ran else self._left_out


def _joined(entries: Sequence[Entry]) -> Entry:
    """A test that has no entry of its own, whose parts did not fail."""
    first = entries[0]
    ran = any(entry.outcome in (Outcome.PASSED, Outcome.FLAKY) for entry in entries)
    outcome = Outcome.PASSED if ran or first.outcome.is_bad else first.outcome
    return Entry(
        first.name, outcome, first.group, first.suite, first.file,
        output="".join(entry.output for entry in entries),
        attachments=tuple(path for entry in entries for path in entry.attachments),
    )  # fmt: skip
