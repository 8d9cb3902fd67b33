"""Learns a bridge: tries commands in a copy of the folder, infers the bridge, and checks it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import msgspec

from wolfbane.app.bridges.best_reading import (
    Commands,
    ReadTests,
    best_reading,
    clues_of,
    source_tests,
)
from wolfbane.app.bridges.bridge_check import check_bridge
from wolfbane.app.bridges.candidates import candidates
from wolfbane.app.bridges.learned_build import LearnedBuild, learn_build
from wolfbane.app.bridges.planted_failures import Breaking, ExitCodes, May
from wolfbane.app.bridges.proposal import Proposal, written
from wolfbane.app.bridges.readings import readings
from wolfbane.app.bridges.trial import Trial, TrialFolder, copied
from wolfbane.environments import Environment
from wolfbane.errors import InputError, Problem
from wolfbane.kinds.bridge.tables import BridgeSuite
from wolfbane.workspace.diagnosis import Finding, State
from wolfbane.workspace.settings import Settings, Workspace

Say = Callable[[str], None]
_BRIDGE = "learned-bridge.toml"
_SHOWN = 5
_SAME_TWICE = (
    "enter the command that runs one of these tests; if the launcher cannot run a single test, "
    "enter the command for all tests again"
)


class UnknownTests(InputError):
    """The tests of the report were not found in the sources, so a command must list them."""


class UnknownResults(InputError):
    """No report or line shows the results. ``lines`` is the output of the command for all tests,
    each with whether the command for one test prints it, too.
    """

    def __init__(self, problem: Problem, lines: Sequence[tuple[str, bool]]) -> None:
        super().__init__(problem)
        self.lines = lines


class Learned(msgspec.Struct, frozen=True):
    """The text of a bridge file, the paths of its suite, and the findings of its check."""

    text: str
    paths: Sequence[str]
    findings: Sequence[Finding]
    build: LearnedBuild | None = None

    @property
    def holds(self) -> bool:
        """Whether the check found no errors."""
        return not any(finding.state is State.WRONG for finding in self.findings)


def learn(folder: Path, commands: Commands, say: Say, may: May) -> Learned:
    """Learn a bridge for the tests of a folder. Raises InputError if that is not possible.

    ``say`` receives the findings, line by line, and ``may`` a question that is answered with yes or
    no. Nothing in the folder is run or changed: the commands run in a copy.
    """
    with copied(folder, large=commands.large) as copy:
        build = commands.build
        learned = None
        if build:
            learned = learn_build(copy, build.command, commands.limit)
        if build and learned:
            _say_build(learned, say)
            apart = msgspec.structs.replace(commands, all_tests=build.all_tests, one=build.one)
            why = "the check found errors"
            try:
                reading = _learnt(copy, apart, say, may=may, build=build.command)
                if reading.holds:
                    return msgspec.structs.replace(reading, build=learned)
            except InputError as error:
                why = str(error)
            say(f"         with the build apart: {why}; trying the whole command")
        return _learnt(copy, commands, say, may=may, build="")


def _learnt(copy: TrialFolder, commands: Commands, say: Say, may: May, build: str) -> Learned:
    """Learn a bridge in the copy, after the ``build``."""
    trial = copy.run(commands.all_tests, commands.limit)
    _say_trial(trial, commands.limit, say)
    clues = clues_of(copy, commands)
    proposals = readings(copy.root, trial, clues)  # before another command changes the files
    one = copy.run(commands.one, commands.limit)
    read = best_reading(copy, proposals, trial, one=one, commands=commands)
    reading, sources = (read.reading, read.sources) if read else (None, None)
    broken = Breaking(
        copy=copy,
        one=commands.one,
        limit=commands.limit,
        may=may,
        say=say,
        clues=clues,
        build=build,
    )
    codes = ExitCodes(broken, trial, reading, sources=sources)
    learned = _proved(
        copy,
        candidates(copy, commands, read, codes=codes, took=one.seconds),
        commands.limit,
        say=say,
    )
    if learned is None:
        if read is None or not read.reading.entries:
            raise _unknown_results(trial, one)
        raise _not_found(read, listed=bool(commands.listing))
    return learned


def _say_build(build: LearnedBuild, say: Say) -> None:
    say(f"built    {build.command}")
    say(f"         from {_few(build.inputs)}; wrote {_few(build.outputs)}")


def _few(texts: Sequence[str]) -> str:
    others = len(texts) - _SHOWN
    return f"{', '.join(texts[:_SHOWN])}{f' and {others} more' if others > 0 else ''}"


def _say_trial(trial: Trial, limit: float, say: Say) -> None:
    if trial.late:
        message = f"the command that runs all tests took longer than {limit:g} s"
        raise InputError(Problem(message, hint="raise the time limit: --limit 30m"))
    say(
        f"ran      all tests, in a copy of the folder: "
        f"exit code {trial.code}, {trial.seconds:.1f} s"
    )
    if trial.written:
        say(f"wrote    {_few(trial.written)}")


def _proved(
    copy: TrialFolder, proposals: Iterator[Proposal], limit: float, say: Say
) -> Learned | None:
    """The first proposal whose check finds no errors; otherwise, the one with the fewest errors.

    No further proposals are tried after this time. None if there is no proposal.
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
        how = "in"
        if proposal.sources.listing:
            how = "in a list, for the files"
        say(f"found    {len(proposal.sources.tests)} tests {how} {proposal.glob}")
    say(f"names    {proposal.names.why}")


def _checked(copy: TrialFolder, proposal: Proposal) -> Learned:
    text = written(proposal)
    (copy.root / _BRIDGE).write_text(text, encoding="utf-8")
    paths = _paths(copy, proposal)
    suite = BridgeSuite(name="learned", kind="bridge", paths=paths, bridge=_BRIDGE)
    workspace = Workspace(copy.root, Settings(suite=[suite]), None)
    environment = Environment(name="", values={}, exports={}, ports={})
    findings = [*_not_found_in_sources(proposal), *check_bridge(workspace, suite, [environment])]
    return Learned(text, paths, findings)


def _not_found_in_sources(proposal: Proposal) -> Iterator[Finding]:
    """The tests of the report that the patterns do not find in the sources."""
    reading, mapped = proposal.reading, proposal.mapped
    if reading is None or proposal.sources is None or proposal.names.how == "files":
        return
    known = {test.called(mapped.test) for test in source_tests(proposal.sources)}
    names = dict.fromkeys(mapped.called(entry) for entry in reading.entries)
    lost = [name for name in names if mapped.whole(name) not in known]
    if lost:
        more = ""
        if len(lost) > _SHOWN:
            more = ", ..."
        message = (
            f"{len(lost)} of the {len(names)} tests in the report were not found in the sources: "
            f"{', '.join(lost[:_SHOWN])}{more}"
        )
        hint = "change the patterns in [find] so that they match these tests, too"
        yield Finding("found", State.WRONG, message, mend=hint)


def _paths(copy: TrialFolder, proposal: Proposal) -> list[str]:
    """The top-level folders that contain test files, and a glob for test files outside folders."""
    if proposal.sources is None:
        return [proposal.folder or proposal.glob]
    files = [path for path, _ in proposal.sources.tests]
    tops = {path.partition("/")[0] if "/" in path else proposal.glob for path in files}
    return sorted(tops)


def _unknown_results(everything: Trial, one: Trial) -> UnknownResults:
    printed = [line for line in everything.output.splitlines() if line.strip()]
    alone = set(one.output.splitlines())
    if printed:
        many = "1 line"
        if len(printed) != 1:
            many = f"{len(printed)} lines"
        example = next((line for line in printed if line in alone), printed[0]).strip()
        message = (
            f"the results of the tests were not recognized in the output: it has {many}, "
            f"for example '{example[:80]}'"
        )
        hint = "put the words for the outcomes into --answers: passed = ['WORD'], failed = ['WORD']"
    else:
        message = "the command prints nothing, and writes no report with the result of each test"
        hint = "add an option that writes a report or prints one line per test"
    return UnknownResults(Problem(message, hint=hint), [(line, line in alone) for line in printed])


def _not_found(read: ReadTests, *, listed: bool) -> InputError:
    named = ", ".join(entry.name for entry in read.reading.entries[:_SHOWN])
    if read.sources is None and listed:
        return InputError(Problem(f"the list of tests has no test name of the report: {named}"))
    if read.sources is None:
        message = f"no source file contains the test names of the report: {named}"
        return UnknownTests(
            Problem(message, hint="give a command that lists the tests: --list 'COMMAND'")
        )
    message = f"the command for one test contains no test name from the report, such as {named}"
    return InputError(Problem(message, hint=_SAME_TWICE))
