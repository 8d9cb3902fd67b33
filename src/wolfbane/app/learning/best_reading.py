"""Chooses how to read the report of a launcher: by the tests that are found in the sources."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from wolfbane.app.learning.commands import SourceTest, hints
from wolfbane.app.learning.listed import find_listed
from wolfbane.app.learning.proposal import Mapped, map_entries
from wolfbane.app.learning.readings import Reading, read_as, readings
from wolfbane.app.learning.sections import section_keys
from wolfbane.app.learning.source_patterns import SourceTests
from wolfbane.app.learning.syntax_patterns import find_sources
from wolfbane.app.learning.trial import Trial, TrialFolder
from wolfbane.app.learning.vocabulary import vocabulary
from wolfbane.errors import InputError, Problem

_ENOUGH = 0.6
"""The part of the tests that a report must contain, because lines may contain more: subtests."""


class Commands(msgspec.Struct, frozen=True):
    """The commands that people use: one for all tests, one for a single test.

    ``report`` is the report file.

    ``listing`` prints all tests, if the sources do not show them.

    ``large``: a folder of more than a gigabyte may be copied.

    ``words`` are the launcher's words for outcomes, if they are not the usual ones; ``name`` is the
    name of the test that the second command runs.
    """

    all_tests: Sequence[str]
    one: Sequence[str]
    report: str = ""
    listing: Sequence[str] = ()
    limit: float = 600.0
    large: bool = False
    words: Mapping[str, Sequence[str]] = {}
    name: str = ""


class ReadTests(msgspec.Struct, frozen=True):
    """A reading, the sources of its tests, and how they match."""

    reading: Reading
    sources: SourceTests | None
    mapped: Mapped


def best_reading(copy: TrialFolder, trial: Trial, commands: Commands) -> ReadTests | None:
    """The reading whose entries are found in the sources most often."""
    found = []
    words = vocabulary(commands.words)
    given = [commands.name] if commands.name else []
    named = [*given, *hints(commands.all_tests, commands.one)]
    for reading in readings(copy.root, trial, named, words):
        if commands.report and reading.table.get("report") != commands.report:
            continue
        names = [f"{e.group}.{e.name}" if e.group else e.name for e in reading.entries]
        names = list(dict.fromkeys(names))
        if commands.listing:
            sources: SourceTests | None = find_listed(copy, commands.listing, names, commands.limit)
        else:
            sources = find_sources(copy.root, names, trial.written)
        mapped = map_entries(reading.entries, source_tests(sources))
        found.append(ReadTests(reading, sources, mapped))
    if commands.report and not found:
        raise InputError(Problem(f"{commands.report} was not written, or is not a report", ""))
    most = max((read.mapped.matches for read in found), default=0)
    # Lines are read where no format is: what is in one says more, and says it surely.
    good = [read for read in found if read.mapped.matches >= most * _ENOUGH]
    first = next(iter(good), None)
    if first is None or first.reading.table["format"] != "lines":
        return first
    best = max(good, key=lambda read: read.mapped.matches)  # of equal ones, the narrowest
    return _with_sections(best, trial)


def _with_sections(read: ReadTests, trial: Trial) -> ReadTests:
    """The reading with the lines that give the file or the package of the results around them."""
    if read.sources is None:
        return read
    files = dict.fromkeys(path for path, _ in read.sources.tests)
    keys = section_keys(trial.output, read.reading.table, files)
    if not keys:
        return read
    table = {**read.reading.table, **keys}
    entries = read_as(table, trial.output.encode())
    reading = msgspec.structs.replace(read.reading, table=table, entries=entries)
    return msgspec.structs.replace(read, reading=reading)


def source_tests(sources: SourceTests | None) -> list[SourceTest]:
    """The tests of the sources, with their groups joined by dots."""
    if sources is None:
        return []
    return [
        SourceTest(path, item.outer.whole_name.replace(" / ", ".") if item.outer else "", item.name)
        for path, item in sources.tests
    ]
