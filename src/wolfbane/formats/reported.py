"""One test of a report, independent of the report format."""

from __future__ import annotations

import math
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from wolfbane.model import NESTED, Outcome, Part

LONGEST = 1 << 18
"""Maximum number of characters of a text in a report."""


class FormatError(Exception):
    """An error in a report. ``line`` is the position, or 0."""

    def __init__(self, message: str, line: int = 0) -> None:
        super().__init__(message)
        self.message, self.line = message, line


@contextmanager
def nesting_limit() -> Iterator[None]:
    """Raise FormatError for data that is nested deeper than this process can read."""
    try:
        yield
    except RecursionError:
        raise FormatError("is nested too deeply") from None


@dataclass(frozen=True, slots=True)
class ReportedTest:
    """One test of a report.

    ``group`` is the test's group in the report (a class), ``suite`` the names of the suites around
    it, joined by `` / ``; ``suite_file``, ``host`` and ``suite_properties`` come from the innermost
    suite that has them. Wolfbane's own reports have ``address`` and ``quarantined`` (the reason).
    """

    name: str
    outcome: Outcome
    group: str = ""
    suite: str = ""
    file: str = ""
    line: int = 0
    seconds: float = 0.0
    message: str = ""
    detail: str = ""
    output: str = ""
    properties: tuple[tuple[str, str], ...] = ()
    attachments: tuple[str, ...] = ()
    earlier: tuple[ReportedTest, ...] = ()
    parts: tuple[Part, ...] = ()
    address: str = ""
    suite_file: str = ""
    host: str = ""
    suite_properties: tuple[tuple[str, str], ...] = ()
    quarantined: str = ""

    def __post_init__(self) -> None:
        if not 0.0 <= self.seconds < math.inf:  # nothing can be counted with such a time
            object.__setattr__(self, "seconds", 0.0)

    @property
    def tags(self) -> tuple[str, ...]:
        """The value of the tag ``tag``."""
        return tuple(value for name, value in self.properties if name == "tag")


def address_of(entry: ReportedTest) -> str:
    """An address for an entry without further facts: ``FILE#GROUP / NAME``."""
    if entry.address:
        return entry.address
    path = entry.file or entry.group or entry.suite or "imported"
    nested = entry.file and entry.group and entry.group != entry.file
    return f"{path}#{entry.group}{NESTED}{entry.name}" if nested else f"{path}#{entry.name}"


class Text:
    """A text that arrives in pieces. Only a readable amount is kept."""

    def __init__(self) -> None:
        self._pieces: list[str] = []
        self._length = 0

    def add(self, piece: str) -> None:
        """Add a piece; text above the limit is dropped and counted."""
        room = LONGEST - self._length
        if room > 0:
            self._pieces.append(piece[:room])
        self._length += len(piece)

    def __str__(self) -> str:
        text = "".join(self._pieces)
        if self._length > LONGEST:
            text += f"\n[... {self._length - LONGEST} characters omitted ...]"
        return text
