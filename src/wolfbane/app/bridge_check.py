"""Check a bridge by using it: find, run all, one and some, and compare what came back."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from wolfbane.cores import available_cores
from wolfbane.environments import Environment
from wolfbane.errors import NothingChosen
from wolfbane.execution.recorded import recording
from wolfbane.execution.run_inputs import RunInputs
from wolfbane.execution.run_request import RunRequest
from wolfbane.execution.session import Session
from wolfbane.inventory import open_inventory
from wolfbane.kinds.bridge.file import read_bridge
from wolfbane.kinds.bridge.settings import BridgeSuite
from wolfbane.model import Discrepancy, Outcome, Result, Test
from wolfbane.results.newest import Known, Newest
from wolfbane.results.runs import new_run
from wolfbane.selection import Choice, Term, all_of, any_of
from wolfbane.workspace.diagnosis import Finding, State
from wolfbane.workspace.settings import Workspace

SOME = 10
LINES = 3
_MENDS = {
    "no result came back": "run.names.name and read.name have to make the same of a test",
    "the launcher ended": "run.command, or run.passed and run.failed, if that code means one",
    "the launcher left no report": "read.report, and where run.command puts the report",
    "the launcher ran longer": "the suite's timeout, or what it waits for",
    "it cannot be started": "run.command, and the suite's folder",
}


def check_bridge(
    workspace: Workspace, suite: BridgeSuite, environments: Sequence[Environment]
) -> Iterator[Finding]:
    """What holds of a suite's bridge and what does not, in the order in which it is looked at.

    Runs the suite's tests; nothing of that goes into the workspace's record.
    """
    run = _Runs(workspace, suite, environments)
    tests, broken = run.found()
    for words, addresses in _by_words({r.address: r.message for r in broken}):
        yield Finding("found", State.WRONG, f"{addresses}: {words}", _FIND)
    if not tests:
        if not broken:
            yield Finding("found", State.WRONG, "no test was found", _FIND)
        return
    files = len({test.path for test in tests})
    in_files = "1 file" if files == 1 else f"{files} files"
    yield Finding("found", State.OK, f"{len(tests)} tests in {in_files}")
    yield _tags(tests)
    known = {test.address: test for test in tests}
    results = run.of(())
    added = read_bridge(workspace.root / suite.bridge).run.names.unless_all
    yield from _reported(known, results, added=added)
    came = {a: results[a].outcome for a in known if a in results and _came_back(results[a])}
    good = [address for address, outcome in came.items() if outcome is Outcome.PASSED]
    bad = [address for address, outcome in came.items() if outcome.is_bad]
    bad.sort(key=lambda address: came[address] is not Outcome.FAILED)
    if good:
        yield _alone(run, "one alone", good[:1], Outcome.PASSED)
    if len(good) > 2:
        yield _alone(run, "some alone", good[::2][:SOME], Outcome.PASSED)
    if bad:
        yield _alone(run, "a failing one", bad[:1], came[bad[0]])
    else:
        words = "no test fails here, so that one comes back failed is not shown"
        yield Finding("a failing one", State.WARNING, words, "let a test fail for this check")
    if not good:
        yield Finding("one alone", State.WRONG, "no test passed", "look at the launcher's output")


_OURS = ("suite ", "rule ")
_FIND = "look at find.files, and at the patterns, the query or the list command"


class _Runs:
    """Runs of one suite that leave nothing behind."""

    def __init__(
        self, workspace: Workspace, suite: BridgeSuite, environments: Sequence[Environment]
    ) -> None:
        self._workspace, self._suite, self._environments = workspace, suite, environments

    def found(self) -> tuple[Sequence[Test], Sequence[Result]]:
        """The suite's tests, and the files that could not tell theirs when they were asked."""
        with tempfile.TemporaryDirectory() as place:
            folder = new_run(Path(place))
            session = self._session(folder.name, ())
            try:
                tests = session.plan(folder).tests
                return sorted(tests, key=lambda t: (t.path, t.line)), session.broken
            except NothingChosen:
                return (), session.broken

    def of(self, addresses: Sequence[str]) -> Mapping[str, Result]:
        """How the tests ended, by address: these, or all if none is named."""
        with tempfile.TemporaryDirectory() as place:
            folder = new_run(Path(place))
            session = self._session(folder.name, addresses)
            with recording(session, folder, Newest(Path(place))) as recorded:
                session.execute(folder)
        return {result.address: result for result in recorded.record.results}

    def _session(self, run: str, addresses: Sequence[str]) -> Session:
        only = Term("suite", self._suite.name)
        chosen = [any_of(Term("at", a, "quoted") for a in addresses)] if addresses else []
        inputs = RunInputs(
            open_inventory(self._workspace), Choice(all_of([only, *chosen])),
            RunRequest(jobs=available_cores()), Known(), self._environments,
        )  # fmt: skip
        return Session(inputs, run)


def _tags(tests: Sequence[Test]) -> Finding:
    tags = sorted({t.text for test in tests for t in test.tags if not t.origin.startswith(_OURS)})
    if tags:
        return Finding("tags", State.OK, ", ".join(tags[:SOME]))
    return Finding("tags", State.WARNING, "no tag was found", "find.lines.tag, or @tag in a query")


def _reported(
    known: Mapping[str, Test], results: Mapping[str, Result], *, added: bool
) -> Iterator[Finding]:
    """Whether what was found is what came back, and the exit code says the same.

    ``added``: tests that only the launcher knows are to be run, too.
    """
    lost = [a for a in known if a not in results or not _came_back(results[a])]
    strange = [a for a, result in results.items() if result.account is Discrepancy.ADDED]
    whole = [r for a, r in results.items() if a not in known and "#" not in a]
    silent = {a: results[a].message if a in results else "no result came back" for a in lost}
    for words, addresses in _by_words(silent):
        printed = [r.output for a in lost if (r := results.get(a)) and r.message == words]
        line = f"{addresses}: {words}{_last_of(max(printed, default='', key=len))}"
        yield Finding("reported", State.WRONG, line, _mended_by(words))
    for address in strange[:SOME]:
        words = f"the report tells of {address}, which was not found"
        state = State.WARNING if added else State.WRONG
        yield Finding("reported", state, words, _FIND)
    if not lost and not strange:
        yield Finding("reported", State.OK, "what was found is what came back")
    for result in whole:
        yield Finding("exit code", State.WRONG, result.message, "run.passed and run.failed")
    if not whole and not lost:
        yield Finding("exit code", State.OK, "it says what the report says")


def _by_words(words_of: Mapping[str, str]) -> Iterator[tuple[str, str]]:
    """The same words once, with the first address that they are about, and how many more."""
    groups: dict[str, list[str]] = {}
    for address, words in words_of.items():
        groups.setdefault(words, []).append(address)
    for words, addresses in groups.items():
        others = f" and {len(addresses) - 1} more" if len(addresses) > 1 else ""
        yield words, f"{addresses[0]}{others}"


def _came_back(result: Result) -> bool:
    return result.account is not Discrepancy.MISSING and result.outcome is not Outcome.BLOCKED


def _last_of(printed: str) -> str:
    """The last lines of what the launcher printed: mostly, these say why."""
    lines = [line for line in printed.splitlines() if any(map(str.isalnum, line))][-LINES:]
    return "".join(f"\n  {line}" for line in lines)


def _mended_by(words: str) -> str:
    """Where to look when a test did not come back."""
    mends = (mend for start, mend in _MENDS.items() if words.startswith(start))
    return next(mends, "read.format, and what the launcher left")


def _alone(run: _Runs, about: str, addresses: Sequence[str], outcome: Outcome) -> Finding:
    """Whether tests that are chosen run, and no other with them."""
    results = run.of(addresses)
    others = [address for address in results if address not in addresses]
    if others:
        words = f"{others[0]} ran too, when {addresses[0]} was chosen"
        return Finding(about, State.WRONG, words, "how the names are given: run.names")
    for address in addresses:
        ended = results.get(address)
        if ended is None or ended.outcome is not outcome:
            came = f"{ended.outcome}: {ended.message}" if ended else "not at all"
            words = f"{address} came back {came}".rstrip(": ")
            return Finding(about, State.WRONG, words, "how the names are given: run.names")
    words = addresses[0] if len(addresses) == 1 else f"{len(addresses)} of them"
    return Finding(about, State.OK, f"{words}: {outcome}, and nothing else ran")
