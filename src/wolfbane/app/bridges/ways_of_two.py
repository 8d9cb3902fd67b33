"""Learns how one command can name two tests: tries each way, and keeps one that runs exactly these
tests.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from wolfbane.app.bridges.proposal import Mapped
from wolfbane.app.bridges.readings import Reading, read_again
from wolfbane.app.bridges.trial import TrialFolder
from wolfbane.formats.reported import ReportedTest
from wolfbane.kinds.bridge.learning.commands import NamesGuess, SourceTest
from wolfbane.kinds.bridge.runner.calls import FILES, NAMES, filled, name_values
from wolfbane.kinds.bridge.runner.naming import LauncherName
from wolfbane.kinds.bridge.tables import NamesTable
from wolfbane.model import Outcome

_SEPARATORS = (",", " ", ";", "|", ":")


def ways(guess: NamesGuess) -> Iterator[NamesGuess]:
    """The ways in which a launcher may accept several names, the common ones first."""
    yield guess
    if guess.how != "each":
        return
    for separator in _SEPARATORS:
        command = [
            [guess.option, "{names}"] if argument == "{names}" and guess.option else argument
            for argument in guess.command
        ]
        yield msgspec.structs.replace(
            guess, command=command, how="joined", option="", separator=separator
        )


def way_of_two(
    copy: TrialFolder,
    guess: NamesGuess,
    reading: Reading,
    mapped: Mapped,
    tests: Sequence[SourceTest],
    limit: float,
) -> NamesGuess | None:
    """The way that runs exactly two tests; None if no way works, or if there are not two tests."""
    two = _two(guess, reading.entries, mapped, tests=tests)
    if len(two) < 2:
        return guess
    wanted = {test.called(mapped.test) for test in two}
    for way in ways(guess):
        with tempfile.TemporaryDirectory() as scratch:
            command = _command(way, two, scratch, reading=reading)
            trial = copy.run(command, limit)
            entries = read_again(copy.root, trial, reading.table, scratch=scratch)
        if _ran(entries, mapped) == wanted:
            return way
    return None


def _two(
    guess: NamesGuess, entries: Sequence[ReportedTest], mapped: Mapped, tests: Sequence[SourceTest]
) -> list[SourceTest]:
    """Two passed tests: of one file, if the file is also named."""
    passed = _ran([entry for entry in entries if entry.outcome is Outcome.PASSED], mapped)
    good = [test for test in tests if test.called(mapped.test) in passed]
    if guess.per != "file":
        if len(good) > 1:
            return [good[0], good[-1]]
        return []
    for test in good:
        together = [other for other in good if other.file == test.file]
        if len(together) > 1:
            return together[:2]
    return []


def _ran(entries: Sequence[ReportedTest], mapped: Mapped) -> set[str]:
    """The names of the tests in the report that ran. Parts count as their test."""
    return {mapped.whole(mapped.called(e)) for e in entries if e.outcome is not Outcome.SKIPPED}


def _command(
    way: NamesGuess, two: Sequence[SourceTest], scratch: str, reading: Reading
) -> list[str]:
    names = msgspec.to_builtins(NamesTable(way.how, **way.table()))  # type: ignore[arg-type]
    called = [
        LauncherName(path=test.file, name=test.name, file=test.file, known_as=test.called(way.name))
        for test in two
    ]
    report = f"{scratch}/{Path(reading.table.get('report', 'report')).name}"
    known = {"file": two[0].file, "scratch": scratch, "report": report}
    many = {
        NAMES: name_values(called, names, Path(scratch)),
        FILES: list(dict.fromkeys(test.file for test in two)),
    }
    return filled(way.command, many, way.option, known)
