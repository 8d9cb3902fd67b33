"""Learn a bridge: try commands in a copy of the folder, infer, and prove it by a check."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import msgspec

from wolfbane.app.bridge_check import check_bridge
from wolfbane.app.learning.breaking import Breakable, failing_code
from wolfbane.app.learning.commands import NamesGuess, SourceTest, guesses, hints
from wolfbane.app.learning.proposal import Mapped, Proposal, map_entries, written
from wolfbane.app.learning.readings import Reading, readings
from wolfbane.app.learning.source_patterns import SourceTests, find_sources
from wolfbane.app.learning.trial import Trial, TrialFolder, copied
from wolfbane.app.learning.ways import way_of_two
from wolfbane.environments import Environment
from wolfbane.errors import InputError, Problem
from wolfbane.kinds.bridge.settings import BridgeSuite
from wolfbane.workspace.diagnosis import Finding, State
from wolfbane.workspace.settings import Settings, Workspace

Say = Callable[[str], None]
May = Callable[[str], bool]
_BRIDGE = "learned-bridge.toml"
_SHOWN = 5
_ENOUGH = 0.6
"""Part of the tests that a report must have, where lines have more: subtests, mostly."""


class Commands(msgspec.Struct, frozen=True):
    """What people type: to run all tests, and to run one. ``report`` is a file that is written.

    ``large``: a folder of more than a gigabyte may be copied.
    """

    all_tests: Sequence[str]
    one: Sequence[str]
    report: str = ""
    limit: float = 600.0
    large: bool = False


class Learned(msgspec.Struct, frozen=True):
    """A bridge file's text, the paths of a suite for it, and what a check of it found."""

    text: str
    paths: Sequence[str]
    findings: Sequence[Finding]

    @property
    def holds(self) -> bool:
        """Whether nothing is wrong with it."""
        return not any(finding.state is State.WRONG for finding in self.findings)


def learn(folder: Path, commands: Commands, say: Say, may: May) -> Learned:
    """Work out a bridge for the tests of a folder. Raises InputError where that cannot be done.

    ``say`` gets what was seen, line by line, and ``may`` a question that is answered with yes or
    no. Nothing in the folder is run or changed: the commands run in a copy.
    """
    with copied(folder, large=commands.large) as copy:
        trial = copy.run(commands.all_tests, commands.limit)
        _say_trial(trial, commands.limit, say)
        read = _best_reading(copy, trial, commands)
        codes = _ExitCodes(copy, commands, trial, read, may)
        learned = _proved(copy, _proposals(copy, commands, read, codes), commands.limit, say)
        if learned is None:
            raise _not_found(read)
        return learned


def _say_trial(trial: Trial, limit: float, say: Say) -> None:
    if trial.late:
        words = f"the command for all tests ran longer than {limit:g} s"
        raise InputError(Problem(words, hint="give it more time: --limit 30m"))
    say(f"ran      all tests in a copy: exit code {trial.code}, {trial.seconds:.1f} s")
    if trial.written:
        others = len(trial.written) - _SHOWN
        more = f" and {others} more" if others > 0 else ""
        say(f"wrote    {', '.join(trial.written[:_SHOWN])}{more}")


class _Read(msgspec.Struct, frozen=True):
    """A reading, the sources of its tests, and how the two fit."""

    reading: Reading
    sources: SourceTests | None
    mapped: Mapped


def _best_reading(copy: TrialFolder, trial: Trial, commands: Commands) -> _Read | None:
    """The reading whose entries are found in the sources most often."""
    found = []
    for reading in readings(copy.root, trial, hints(commands.all_tests, commands.one)):
        if commands.report and reading.table.get("report") != commands.report:
            continue
        names = [f"{e.group}.{e.name}" if e.group else e.name for e in reading.entries]
        sources = find_sources(copy.root, list(dict.fromkeys(names)), trial.written)
        mapped = map_entries(reading.entries, _tests(sources))
        found.append(_Read(reading, sources, mapped))
    if commands.report and not found:
        raise InputError(Problem(f"{commands.report} was not written, or is no report", ""))
    most = max((read.mapped.matches for read in found), default=0)
    # Lines are read where no format is: what is in one says more, and says it surely.
    good = [read for read in found if read.mapped.matches >= most * _ENOUGH]
    return next(iter(good), None)


def _tests(sources: SourceTests | None) -> list[SourceTest]:
    if sources is None:
        return []
    return [
        SourceTest(path, item.outer.whole_name.replace(" / ", ".") if item.outer else "", item.name)
        for path, item in sources.tests
    ]


def _proposals(
    copy: TrialFolder, commands: Commands, read: _Read | None, codes: _ExitCodes
) -> Iterator[Proposal]:
    """Bridges that may be right, the likeliest first."""
    reading, sources = (read.reading, read.sources) if read else (None, None)
    about = _about(commands.all_tests)
    tests = _tests(sources)
    mapped = read.mapped if read else Mapped("{name}", "{name}", 0)
    for guess in guesses(commands.all_tests, commands.one, tests, copy.root):
        passed, failed = codes.of(guess)
        names, reading = _with_report(guess, reading)
        if names.how == "files":
            ending = Path(names.file).suffix
            glob = f"*{ending}" if ending else "*"
            folder = names.file.partition("/")[0] if "/" in names.file else ""
            first = Proposal(
                about, None, names, reading, mapped, glob, passed, failed, folder,
                fails_unseen=codes.unseen,
            )  # fmt: skip
            yield from [first] if reading else []
            yield msgspec.structs.replace(first, reading=None)  # by the exit code alone
            continue
        if sources is None or reading is None:
            continue
        way = way_of_two(copy, names, reading, mapped, tests, commands.limit)
        per = "" if way else "test"
        first = Proposal(
            about, sources, way or names, reading, mapped, sources.glob, passed, failed, per=per,
            fails_unseen=codes.unseen,
        )  # fmt: skip
        yield first
        yield msgspec.structs.replace(first, unless_all=True)
        if way:
            yield msgspec.structs.replace(first, per="test")


def _about(command: Sequence[str]) -> str:
    """What people may call the launcher: the program that a shell runs, rather than the shell."""
    through_shell = [*command[:2], *command[3:4]] == ["sh", "-c", "sh"]
    return Path(command[4] if through_shell and len(command) > 4 else command[0]).name


class _ExitCodes:
    """What the launcher ends with where tests passed, and where one failed.

    Where no test failed, the one that the second command names is broken on purpose, if that
    ``may`` be done. ``unseen``: no test failed even so.
    """

    def __init__(
        self, copy: TrialFolder, commands: Commands, trial: Trial, read: _Read | None, may: May
    ) -> None:
        self.unseen = False
        self._copy, self._commands, self._read, self._may = copy, commands, read, may
        entries = read.reading.entries if read else ()
        bad = any(entry.outcome.is_bad for entry in entries) if read else trial.code != 0
        self._passed = [0] if bad else [trial.code]
        self._failed: list[int] | None = None
        if bad:
            self._failed = [trial.code] if trial.code else [0, 1]

    def of(self, guess: NamesGuess) -> tuple[Sequence[int], Sequence[int]]:
        """The codes for passed and for failed."""
        if self._failed is None:
            code = self._broken(guess)
            self.unseen = code is None
            self._failed = [1 if code is None else code]
        return self._passed, self._failed

    def _broken(self, guess: NamesGuess) -> int | None:
        """The exit code of the test that the command names, broken; None if it is not known."""
        sources = self._read.sources if self._read else None
        place = Breakable(guess.file, 1, 1 << 16) if guess.file else None
        if guess.test is not None and sources is not None:
            items = [item for path, item in sources.tests if path == guess.test.file]
            named = [item for item in items if item.name == guess.test.name]
            place = Breakable(guess.test.file, named[0].line, named[0].end)
        question = "No test failed. Break one in the copy, to see the exit code for that?"
        if place is None or not self._may(question):
            return None
        reading = self._read.reading if self._read else None
        commands = self._commands
        return failing_code(self._copy, commands.one, place, reading, commands.limit)


def _with_report(names: NamesGuess, reading: Reading | None) -> tuple[NamesGuess, Reading | None]:
    """The command with ``{report}`` where it says the place of the report.

    Each start has a report of its own then, and leaves none behind.
    """
    report = reading.table.get("report", "") if reading else ""
    command = [
        argument.replace(report, "{report}") if report and isinstance(argument, str) else argument
        for argument in names.command
    ]
    if reading is None or command == list(names.command):
        return names, reading
    table = {**reading.table, "report": f"{{scratch}}/{Path(report).name}"}
    return (
        msgspec.structs.replace(names, command=command),
        msgspec.structs.replace(reading, table=table),
    )


def _proved(
    copy: TrialFolder, proposals: Iterator[Proposal], limit: float, say: Say
) -> Learned | None:
    """The first proposal whose check finds nothing wrong; else the one with the fewest faults.

    After so many seconds no other one is tried. None where there is no proposal.
    """
    best: Learned | None = None
    ends = time.monotonic() + limit
    for proposal in proposals:
        if best is None:
            _say_inference(proposal, say)
        learned = _checked(copy, proposal)
        if learned.holds:
            return learned
        if best is None or _faults(learned) < _faults(best):
            best = learned
        if time.monotonic() > ends:
            break
    return best


def _faults(learned: Learned) -> int:
    return sum(finding.state is State.WRONG for finding in learned.findings)


def _say_inference(proposal: Proposal, say: Say) -> None:
    if proposal.reading is not None:
        say(f"read     {proposal.reading.in_words}")
    if proposal.sources is not None and proposal.names.how != "files":
        say(f"found    {len(proposal.sources.tests)} tests in {proposal.glob}")
    say(f"names    {proposal.names.why}")


def _checked(copy: TrialFolder, proposal: Proposal) -> Learned:
    text = written(proposal)
    (copy.root / _BRIDGE).write_text(text, encoding="utf-8")
    paths = _paths(copy, proposal)
    suite = BridgeSuite(name="learned", kind="bridge", paths=paths, bridge=_BRIDGE)
    workspace = Workspace(copy.root, Settings(suite=[suite]), None)
    environment = Environment("", {}, {}, {})
    return Learned(text, paths, list(check_bridge(workspace, suite, [environment])))


def _paths(copy: TrialFolder, proposal: Proposal) -> list[str]:
    """The folders at the top that hold test files; a glob for those that are in none."""
    if proposal.sources is None:
        return [proposal.folder or proposal.glob]
    files = [path for path, _ in proposal.sources.tests]
    tops = {path.partition("/")[0] if "/" in path else proposal.glob for path in files}
    return sorted(tops)


def _not_found(read: _Read | None) -> InputError:
    if read is None or not read.reading.entries:
        words = "nothing that the command left or printed says how each test ended"
        hint = "have it write a report, or print a line for each test: --all 'COMMAND WITH OPTION'"
        return InputError(Problem(words, hint=hint))
    named = ", ".join(entry.name for entry in read.reading.entries[:_SHOWN])
    if read.sources is None:
        words = f"no source file has the names of the report: {named}"
        return InputError(Problem(words))
    words = f"no argument of the command for one test names a test of the report: {named}"
    return InputError(Problem(words, hint="paste the command that runs one of these"))
