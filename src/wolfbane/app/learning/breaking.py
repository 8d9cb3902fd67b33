"""Break a test on purpose, in the copy: what does the launcher end with when one fails?"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import msgspec

from wolfbane.app.learning.readings import Reading, read_again
from wolfbane.app.learning.trial import TrialFolder
from wolfbane.model import Outcome

_TRIES = 12
_CHANGES = (
    (re.compile(r"(\d+)(?!.*\d)"), lambda match: str(int(match[1]) + 1)),
    (re.compile(r"===?|(?<=\s)-eq(?=\s)"), lambda match: "!=" if "=" in match[0] else "-ne"),
    (re.compile(r"\b[Tt]rue\b"), lambda match: match[0].replace("rue", "alse").replace("T", "F")),
    (
        re.compile(r"([\"'])([^\"']+)\1(?!.*[\"'])"),
        lambda match: f"{match[1]}x{match[2]}{match[1]}",
    ),
)
"""Changes of a line that make what it compares another: the last number, a comparison, a text."""


class Breakable(msgspec.Struct, frozen=True):
    """A test in its file, from the copied folder: its lines count from 1."""

    file: str
    first: int
    last: int


def failing_code(
    copy: TrialFolder, one: Sequence[str], test: Breakable, reading: Reading | None, limit: float
) -> int | None:
    """The exit code of the command for one test once that test fails.

    Changes a line of the test at a time, and puts everything back. None where no change made it
    fail.
    """
    place = copy.root / test.file
    text = place.read_text(encoding="utf-8")
    try:
        for number, changed in enumerate(_changed(text, test)):
            if number >= _TRIES:
                break
            place.write_text(changed, encoding="utf-8")
            trial = copy.run(one, limit)
            if reading is None:
                failed = trial.code > 0
            else:
                entries = read_again(copy.root, trial, reading.table, "")
                failed = any(entry.outcome is Outcome.FAILED for entry in entries)
            if failed and not trial.late:
                return trial.code
    finally:
        place.write_text(text, encoding="utf-8")
    return None


def _changed(text: str, test: Breakable) -> Iterator[str]:
    """The file with one line of the test changed; later lines first, for there it compares."""
    lines = text.split("\n")
    for number in range(min(test.last, len(lines)) - 1, test.first - 2, -1):
        for pattern, change in _CHANGES:
            made = pattern.sub(change, lines[number], count=1)
            if made != lines[number]:
                yield "\n".join([*lines[:number], made, *lines[number + 1 :]])
