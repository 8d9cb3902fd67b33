"""Chooses how to read the report of a launcher: by the tests that are found in the sources."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from wolfbane.app.bridges.learned_build import Build
from wolfbane.app.bridges.listed import find_listed, list_tests
from wolfbane.app.bridges.proposal import Mapped, map_entries
from wolfbane.app.bridges.readings import (
    Clues,
    Reading,
    read_as,
    with_changing_name,
)
from wolfbane.app.bridges.trial import Trial, TrialFolder
from wolfbane.errors import InputError, Problem
from wolfbane.kinds.bridge.learning.commands import SourceTest, hints
from wolfbane.kinds.bridge.learning.line_frames import Parts
from wolfbane.kinds.bridge.learning.sections import section_keys
from wolfbane.kinds.bridge.learning.source_patterns import SourceTests
from wolfbane.kinds.bridge.learning.syntax_patterns import find_sources
from wolfbane.kinds.bridge.learning.vocabulary import vocabulary

_ENOUGH = 0.6
"""The part of the tests that a report must contain, because lines may contain more: subtests."""


class Commands(msgspec.Struct, frozen=True):
    """The commands that people use: one for all tests, one for a single test.

    ``report`` is the report file.

    ``listing`` prints all tests, if the sources do not show them.

    ``large``: a folder of more than a gigabyte may be copied.

    ``build``: both commands first build, in the same way.

    ``vocabulary`` are the launcher's words for outcomes, if they are not the usual ones; ``name``
    and ``group`` are those of the test that the second command runs, as the output shows them, and
    ``reason`` is a reason of a failure.
    """

    all_tests: Sequence[str]
    one: Sequence[str]
    report: str = ""
    listing: Sequence[str] = ()
    limit: float = 600.0
    large: bool = False
    vocabulary: Mapping[str, Sequence[str]] = {}
    name: str = ""
    group: str = ""
    reason: str = ""
    build: Build | None = None


class ReadTests(msgspec.Struct, frozen=True):
    """A reading, the sources of its tests, and how they match."""

    reading: Reading
    sources: SourceTests | None
    mapped: Mapped

    @property
    def strange(self) -> int:
        """The number of names in the report that no test has."""
        return len({self.mapped.called(e) for e in self.reading.entries}) - self.mapped.matches


def clues_of(copy: TrialFolder, commands: Commands) -> Clues:
    """The facts about the output that the commands and the user give."""
    if commands.name:
        given = [commands.name]
    else:
        given = []
    named = [*given, *hints(commands.all_tests, commands.one, copy.root)]
    parts = Parts(commands.group, commands.reason)
    return Clues(named, vocabulary(commands.vocabulary), parts)


def best_reading(
    copy: TrialFolder, readings: Sequence[Reading], trial: Trial, one: Trial, commands: Commands
) -> ReadTests | None:
    """The reading of a trial whose entries are found in the sources most often.

    ``one`` is the trial of the second command: its report may have another name.
    """
    finder = _SourceFinder(copy, trial, commands)
    every = [
        finder.read(with_changing_name(reading, one.written))
        for reading in readings
        if commands.report in ("", reading.table.get("report"))
    ]
    if commands.report and not every:
        raise InputError(Problem(f"{commands.report} was not written, or is not a report", ""))
    most = max((read.mapped.matches for read in every), default=0)
    # Lines are read where no format is: what is in one says more, and says it surely.
    good = [read for read in every if read.mapped.matches >= most * _ENOUGH]
    first = next(iter(good), None)
    if first is None or first.reading.table["format"] != "lines":
        return first
    best = max(good, key=lambda read: (read.mapped.matches, -read.strange))  # then the narrowest
    return _with_sections(best, trial, finder)


class _SourceFinder:
    """Finds the tests of a report in the sources, or in the list that a command prints."""

    def __init__(self, copy: TrialFolder, trial: Trial, commands: Commands) -> None:
        self._copy, self._commands, self._written = copy, commands, trial.written
        self._found: dict[tuple[str, ...], SourceTests | None] = {}
        self._listed: Sequence[str] = ()

    def read(self, reading: Reading) -> ReadTests:
        """The reading with the tests of its entries."""
        named = (f"{e.group}.{e.name}" if e.group else e.name for e in reading.entries)
        names = tuple(dict.fromkeys(named))
        if names not in self._found:
            self._found[names] = self._sources(names)
        sources = self._found[names]
        return ReadTests(reading, sources, map_entries(reading.entries, source_tests(sources)))

    def text(self, path: str) -> str:
        """A test file."""
        return (self._copy.root / path).read_text(encoding="utf-8", errors="replace")

    def _sources(self, names: Sequence[str]) -> SourceTests | None:
        if listing := self._commands.listing:
            self._listed = self._listed or list_tests(self._copy, listing, self._commands.limit)
            return find_listed(self._copy.root, listing, self._listed, names=names)
        return find_sources(self._copy.root, names, self._written)


def _with_sections(read: ReadTests, trial: Trial, finder: _SourceFinder) -> ReadTests:
    """The reading with the lines that give the file, package or group of the results around
    them.
    """
    if read.sources is None or read.reading.table.get("report"):
        return read
    files = dict.fromkeys(path for path, _ in read.sources.tests)
    texts = {path: finder.text(path) for path in files}
    keys = section_keys(trial.output, read.reading.table, texts)
    if not keys:
        return read
    table = {**read.reading.table, **keys}
    entries = read_as(table, trial.output.encode())
    with_sections = finder.read(msgspec.structs.replace(read.reading, table=table, entries=entries))
    if with_sections.mapped.matches >= read.mapped.matches:
        return with_sections
    return read


def source_tests(sources: SourceTests | None) -> list[SourceTest]:
    """The tests of the sources, with their groups joined by dots."""
    if sources is None:
        return []
    return [
        SourceTest(path, item.outer.whole_name.replace(" / ", ".") if item.outer else "", item.name)
        for path, item in sources.tests
    ]
