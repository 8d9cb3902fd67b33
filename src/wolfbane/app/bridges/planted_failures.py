"""Breaks a test on purpose, in the copy, to learn the exit code and the line of a failed test."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterator, Sequence

import msgspec

from wolfbane.app.bridges.learned_build import run_build
from wolfbane.app.bridges.readings import Clues, Reading, read_again, with_failed_line
from wolfbane.app.bridges.trial import Trial, TrialFolder
from wolfbane.kinds.bridge.learning.commands import NamesGuess
from wolfbane.kinds.bridge.learning.source_patterns import SourceTests
from wolfbane.model import Outcome

May = Callable[[str], bool]
"""Asks the user a question that is answered with yes or no."""

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
"""Changes that make a compared value in a line different: the last number, a comparison, a text."""


class Breakable(msgspec.Struct, frozen=True):
    """A test in a file of the copied folder. Lines count from 1."""

    file: str
    first: int
    last: int


class PlantedFailure(msgspec.Struct, frozen=True):
    """The text of a file in which one line was changed."""

    text: str
    line: int
    old: str
    new: str


class Breaking(msgspec.Struct, frozen=True):
    """Breaks tests in a copy and runs one of them, if ``may`` permits it. ``say`` receives each
    change and its effect.
    """

    copy: TrialFolder
    one: Sequence[str]
    limit: float
    may: May
    say: Callable[[str], None]
    clues: Clues
    build: str = ""

    def trial(
        self, test: Breakable, reading: Reading | None, everything: Trial
    ) -> tuple[Trial, Reading | None] | None:
        """The run of the command for one test when that test fails, and how it is read.

        ``everything`` is the run of all tests. Changes one line of the test at a time, and restores
        everything. None if no change made the test fail, or if the user did not allow it.
        """
        if not self.may(
            "No test failed. Break one test in the copy, to learn the exit code for a failed test?"
        ):
            return None
        path = self.copy.root / test.file
        try:
            text = path.read_text(encoding="utf-8")
        except UnicodeDecodeError:  # a program that was compiled has no lines to change
            return None
        try:
            for change in itertools.islice(_changes(text, test), _TRIES):
                path.write_text(change.text, encoding="utf-8")
                self._rebuild()
                trial = self.copy.run(self.one, self.limit)
                seen = reading and self._with_failed_line(reading, everything, trial)
                failed = _has_failed(self.copy, trial, seen) and not trial.late
                how = "no test failed"
                if failed:
                    how = f"the test failed, exit code {trial.code}"
                self.say(f"broke    {test.file}:{change.line}, in the copy: {change.new}")
                self.say(f"         instead of: {change.old}")
                self.say(f"         {how}")
                if failed:
                    return trial, seen
        finally:
            path.write_text(text, encoding="utf-8")
            self._rebuild()
        return None

    def _with_failed_line(self, reading: Reading, everything: Trial, trial: Trial) -> Reading:
        """The reading; if it has not seen a failure, with the line that shows this one."""
        if "failed" not in reading.unseen or trial.code in (0, everything.code):
            return reading
        root = self.copy.root
        return with_failed_line(reading, everything, trial, clues=self.clues, root=root) or reading

    def _rebuild(self) -> None:
        if self.build:
            run_build(self.copy, self.build, self.limit)


def _has_failed(copy: TrialFolder, trial: Trial, reading: Reading | None) -> bool:
    if reading is None:
        return trial.code > 0
    entries = read_again(copy.root, trial, reading.table, scratch="")
    return any(entry.outcome is Outcome.FAILED for entry in entries)


class ExitCodes:
    """The launcher's exit codes for passed tests and for a failed test.

    If no test failed, the test that the second command names is broken on purpose. ``unseen``: no
    test failed even then. ``failed_line`` is the pattern of its line, if no other line showed it.
    """

    def __init__(
        self,
        breaking: Breaking,
        trial: Trial,
        reading: Reading | None,
        sources: SourceTests | None,
    ) -> None:
        self.unseen, self.failed_line = False, ""
        self._breaking, self._trial = breaking, trial
        self._reading, self._sources = reading, sources
        if reading:
            bad = sum(e.outcome.is_bad for e in reading.entries)
        else:
            bad = int(trial.code != 0)
        self._passed = [0] if bad else [trial.code]
        self._failed: list[int] | None = None
        if bad:
            self._failed = [trial.code] if trial.code else [0, 1]
            if trial.code == bad > 1:  # it may be the number of failures
                self._failed = [1, trial.code]

    def of(self, guess: NamesGuess) -> tuple[Sequence[int], Sequence[int]]:
        """The codes for passed and for failed."""
        if self._failed is None:
            file = self._place(guess)
            tried = None
            if file:
                tried = self._breaking.trial(file, self._reading, self._trial)
            self.unseen = tried is None
            self._failed = [tried[0].code if tried else 1]
            if tried and tried[1] is not self._reading and tried[1] is not None:
                self.failed_line = tried[1].table["failed"]
        return self._passed, self._failed

    def completed(self, reading: Reading | None) -> Reading | None:
        """The reading with the line of a failure that only a planted failure showed."""
        if reading is None or not self.failed_line:
            return reading
        return reading.with_failed(self.failed_line)

    def _place(self, guess: NamesGuess) -> Breakable | None:
        """The known lines of the test that the command names."""
        if guess.file:
            return Breakable(guess.file, 1, 1 << 16)
        if guess.test is None or self._sources is None or self._sources.listing:
            return None
        items = [item for path, item in self._sources.tests if path == guess.test.file]
        named = [item for item in items if item.name == guess.test.name]
        return Breakable(guess.test.file, named[0].line, named[0].end)


def _changes(text: str, test: Breakable) -> Iterator[PlantedFailure]:
    """The file with one line of the test changed; later lines, which often compare, first."""
    lines = text.split("\n")
    for number in range(min(test.last, len(lines)) - 1, test.first - 2, -1):
        old = lines[number]
        for pattern, change in _CHANGES:
            new = pattern.sub(change, old, count=1)
            if new != old:
                whole = "\n".join([*lines[:number], new, *lines[number + 1 :]])
                yield PlantedFailure(text=whole, line=number + 1, old=old.strip(), new=new.strip())
