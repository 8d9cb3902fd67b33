"""The bridges that the facts about a launcher allow, the most likely first."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from wolfbane.app.bridges.best_reading import Commands, ReadTests, source_tests
from wolfbane.app.bridges.planted_failures import ExitCodes
from wolfbane.app.bridges.proposal import Mapped, Proposal
from wolfbane.app.bridges.readings import Reading
from wolfbane.app.bridges.trial import TrialFolder
from wolfbane.app.bridges.ways_of_two import way_of_two
from wolfbane.kinds.bridge.learning.commands import NamesGuess, guesses
from wolfbane.kinds.bridge.tables import WITHOUT_SELECTION


def candidates(
    copy: TrialFolder, commands: Commands, read: ReadTests | None, codes: ExitCodes, took: float
) -> Iterator[Proposal]:
    """Bridges to check, the most likely first. ``took`` are the seconds of a start for one test."""
    for each in _every(copy, commands, read, codes=codes):
        yield msgspec.structs.replace(each, took=took, reading=codes.completed(each.reading))


def _every(
    copy: TrialFolder, commands: Commands, read: ReadTests | None, codes: ExitCodes
) -> Iterator[Proposal]:
    tests = source_tests(read.sources if read else None)
    if list(commands.all_tests) == list(commands.one):
        yield from _without_selection(commands, read, codes)
        return
    for guess in guesses(commands.all_tests, commands.one, tests, root=copy.root):
        if guess.how == "files":
            yield from _of_files(commands, guess, read, codes=codes)
        elif read is not None and read.sources is not None:
            for names, reading in _with_reports(guess, read.reading):
                known = msgspec.structs.replace(read, reading=reading)
                yield from _of_names(copy, commands, names, read=known, codes=codes)


def _of_files(
    commands: Commands, names: NamesGuess, read: ReadTests | None, codes: ExitCodes
) -> Iterator[Proposal]:
    """Each file is a test, with a report or with the exit code alone."""
    passed, failed = codes.of(names)
    ending = Path(names.file).suffix
    glob = "*"
    if ending:
        glob = f"*{ending}"
    folder = ""
    if "/" in names.file:
        folder = names.file.partition("/")[0]
    if read:
        mapped = read.mapped
    else:
        mapped = Mapped("{name}", "{name}", 0)
    alone = Proposal(
        about=_about(commands.all_tests),
        sources=None,
        names=names,
        reading=None,
        mapped=mapped,
        glob=glob,
        passed=passed,
        failed=failed,
        folder=folder,
        fails_unseen=codes.unseen,
    )
    if read is not None:
        for with_report, reading in _with_reports(names, read.reading):
            yield msgspec.structs.replace(alone, names=with_report, reading=reading)
    yield alone


def _of_names(
    copy: TrialFolder, commands: Commands, names: NamesGuess, read: ReadTests, codes: ExitCodes
) -> Iterator[Proposal]:
    """The launcher accepts names: of several tests in one start, or of one."""
    assert read.sources is not None
    passed, failed = codes.of(names)
    tests = source_tests(read.sources)
    way = way_of_two(
        copy, names, read.reading, mapped=read.mapped, tests=tests, limit=commands.limit
    )
    first = Proposal(
        about=_about(commands.all_tests),
        sources=read.sources,
        names=way or names,
        reading=read.reading,
        mapped=read.mapped,
        glob=read.sources.glob,
        passed=passed,
        failed=failed,
        per="" if way else "test",
        fails_unseen=codes.unseen,
    )
    yield first
    yield msgspec.structs.replace(first, omit="always")
    if way:
        yield msgspec.structs.replace(first, per="test")


def _without_selection(
    commands: Commands, read: ReadTests | None, codes: ExitCodes
) -> Iterator[Proposal]:
    """Each start runs all tests."""
    if read is None or read.sources is None:
        return
    why = "both commands are equal: the launcher runs all tests in each start"
    guess = NamesGuess(list(commands.all_tests), WITHOUT_SELECTION, why=why)
    passed, failed = codes.of(guess)
    for names, reading in _with_reports(guess, read.reading):
        yield Proposal(
            about=_about(commands.all_tests),
            sources=read.sources,
            names=names,
            reading=reading,
            mapped=read.mapped,
            glob=read.sources.glob,
            passed=passed,
            failed=failed,
            per="suite",
            fails_unseen=codes.unseen,
        )


def _about(command: Sequence[str]) -> str:
    """A name for the launcher: the program that a shell runs, not the shell."""
    through_shell = [*command[:2], *command[3:4]] == ["sh", "-c", "sh"]
    return Path(command[4] if through_shell and len(command) > 4 else command[0]).name


def _with_reports(names: NamesGuess, reading: Reading) -> Iterator[tuple[NamesGuess, Reading]]:
    """The command with ``{report}`` in place of the report's path, and the command unchanged.

    With the first, each start has its own report and leaves no report files. A launcher may also
    have the path without reading it from its command.
    """
    report = reading.table.get("report", "")
    command = [
        argument.replace(report, "{report}") if report and isinstance(argument, str) else argument
        for argument in names.command
    ]
    if command != list(names.command):
        table = {**reading.table, "report": f"{{scratch}}/{Path(report).name}"}
        yield (
            msgspec.structs.replace(names, command=command),
            msgspec.structs.replace(reading, table=table),
        )
    yield names, reading
