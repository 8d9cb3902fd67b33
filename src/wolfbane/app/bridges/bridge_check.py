"""Checks a bridge by using it: finds the tests, runs all, one and several, and compares the
results.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import tomlkit
from msgspec.structs import replace

from wolfbane.basis.this_machine import available_cores
from wolfbane.environments import Environment
from wolfbane.errors import NothingChosen
from wolfbane.events.run_events import Event, RunFinished
from wolfbane.execution.launcher_names import RAN_AGAIN
from wolfbane.execution.recorded import recording
from wolfbane.execution.session import Session
from wolfbane.inventory import open_inventory
from wolfbane.inventory.cache import CACHE
from wolfbane.kinds.bridge.file import read_bridge
from wolfbane.kinds.bridge.tables import WITHOUT_SELECTION, BridgeSuite, Run
from wolfbane.kinds.contract import OMIT_ALWAYS, OMIT_NEVER
from wolfbane.model import Discrepancy, Outcome, Result, Test
from wolfbane.reports.text import many
from wolfbane.results.newest import Known, Newest
from wolfbane.results.runs import new_run
from wolfbane.selection import Choice, Term, all_of, any_of
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.setup.run_request import RunRequest
from wolfbane.workspace.diagnosis import Finding, State
from wolfbane.workspace.settings import Workspace

SOME = 10
LINES = 3
_MENDS = {
    "no result was reported (": "the launcher failed before it ran the test; "
    "see the launcher's output for the reason",
    "no result was reported": "the report has no entry for this test; "
    "check read.format, read.report and the patterns",
    "the launcher ended": "check run.command; if the exit code means passed or failed, "
    "add it to run.passed or run.failed",
    "the launcher wrote no report": "check read.report, and the place "
    "where run.command writes the report",
    "the launcher ran longer": "check the suite's timeout, and what the launcher waits for",
    "the launcher cannot be started": "check run.command and the suite's folder",
}


def check_bridge(
    workspace: Workspace, suite: BridgeSuite, environments: Sequence[Environment]
) -> Iterator[Finding]:
    """The findings about a suite's bridge, in the order of the checks.

    Runs the suite's tests, without adding them to the workspace's record.
    """
    with tempfile.TemporaryDirectory() as scratch:
        run = _Runs(workspace, suite, environments, folder=Path(scratch))
        yield from _findings(run, read_bridge(workspace.root / suite.bridge).run)


def _findings(run: _Runs, table: Run) -> Iterator[Finding]:
    tests, broken = run.tests_and_problems()
    for message, addresses in _by_words({r.address: r.message for r in broken}):
        yield Finding("found", State.WRONG, f"{addresses}: {message}", mend=_FIND)
    if not tests:
        if not broken:
            yield Finding("found", State.WRONG, "no tests were found", mend=_FIND)
        return
    files = len({test.path for test in tests})
    counts = f"{many(len(tests), 'test')} in {many(files, 'file')}"
    yield Finding("found", State.OK, counts)
    yield _tags(tests)
    known = {test.address: test for test in tests}
    if table.names.omit == OMIT_ALWAYS:
        named = run
    else:
        named = run.omitting(OMIT_NEVER)
    results = named.of(())
    added = table.names.omit == OMIT_ALWAYS
    yield from _reported(known, results, named.warnings, added=added)
    if table.names.how != "files":
        yield _unknown(run.omitting(OMIT_ALWAYS).of(()), known, added=added)
    came = {a: results[a].outcome for a in known if a in results and _came_back(results[a])}
    good = [address for address, outcome in came.items() if outcome is Outcome.PASSED]
    bad = [address for address, outcome in came.items() if outcome.is_bad]
    bad.sort(key=lambda address: came[address] is not Outcome.FAILED)
    if table.names.how == WITHOUT_SELECTION:
        message = "each start runs all tests; results of tests that are not selected are ignored"
        yield Finding("selection", State.OK, message)
        return
    if good:
        yield _alone(run, "one test alone", good[:1], outcome=Outcome.PASSED)
    if len(good) > 2:
        yield _alone(run, "some tests alone", good[::2][:SOME], outcome=Outcome.PASSED)
    if bad:
        yield _alone(run, "a failing test alone", bad[:1], outcome=came[bad[0]])
    else:
        mend = "make one test fail, then check again"
        yield Finding("a failing test alone", State.WARNING, _NONE_FAILS, mend=mend)
    if not good:
        mend = "see the launcher's output"
        yield Finding("one test alone", State.WRONG, "no tests passed", mend=mend)


_NONE_FAILS = "no test fails, so this check cannot show that a failing test is reported as failed"
_OURS = ("suite ", "rule ")
_FIND = "check find.files, and the patterns, the query or the list command"


class _Runs:
    """Runs of one suite that store nothing: a run cannot use what an earlier run learnt."""

    def __init__(
        self,
        workspace: Workspace,
        suite: BridgeSuite,
        environments: Sequence[Environment],
        folder: Path,
        shown: str = "",
    ) -> None:
        table = replace(workspace.settings.workspace, results=str(folder))
        settings = replace(workspace.settings, workspace=table, suite=[suite])
        self._workspace = replace(workspace, settings=settings)
        self._suite, self._environments, self._place = suite, environments, folder
        self._shown = shown or suite.bridge
        self.warnings: Sequence[str] = ()

    def tests_and_problems(self) -> tuple[Sequence[Test], Sequence[Result]]:
        """The suite's tests, and the files whose tests could not be listed."""
        folder = new_run(self._place)
        session = self._session(folder.name, ())
        try:
            tests = session.plan(folder).tests
            return sorted(tests, key=lambda t: (t.path, t.line)), session.broken
        except NothingChosen:
            return (), session.broken

    def omitting(self, when: str) -> _Runs:
        """The same runs, in which the launcher gets no names ``always``, or gets them in any case
        (``never``).
        """
        file = self._workspace.root / self._suite.bridge
        text = tomlkit.parse(file.read_text(encoding="utf-8"))
        text["run"]["names"]["omit"] = when
        other = self._place / when / file.name
        other.parent.mkdir(exist_ok=True)
        other.write_text(tomlkit.dumps(text), encoding="utf-8")
        suite = replace(self._suite, bridge=str(other))
        return _Runs(
            self._workspace, suite, self._environments, folder=self._place, shown=self._shown
        )

    def of(self, addresses: Sequence[str]) -> Mapping[str, Result]:
        """The outcomes of the tests, by address: the named tests, or all."""
        folder = new_run(self._place)
        session = self._session(folder.name, addresses)
        session.listen(self._hear)
        with recording(session, folder, Newest(folder)) as recorded:
            session.execute(folder)
        used, shown = f"{self._suite.bridge}#", f"{self._shown}#"
        # A result without a file has the address of the bridge: of the real one.
        return {r.address.replace(used, shown): r for r in recorded.record.results}

    def _hear(self, event: Event) -> None:
        if isinstance(event, RunFinished):
            self.warnings = event.warnings

    def _session(self, run: str, addresses: Sequence[str]) -> Session:
        (self._workspace.caches / CACHE).unlink(missing_ok=True)
        only = Term("suite", self._suite.name)
        chosen = [any_of(Term("address", a, "quoted") for a in addresses)] if addresses else []
        inputs = RunInputs(
            inventory=open_inventory(self._workspace),
            choice=Choice(all_of([only, *chosen])),
            request=RunRequest(jobs=available_cores()),
            known=Known(),
            environments=self._environments,
        )
        return Session(inputs, run)


def _tags(tests: Sequence[Test]) -> Finding:
    tags = sorted({t.text for test in tests for t in test.tags if not t.origin.startswith(_OURS)})
    if tags:
        return Finding("tags", State.OK, ", ".join(tags[:SOME]))
    return Finding(
        "tags",
        State.WARNING,
        "no tags were found",
        mend="check find.lines.tag, or @tag in the query",
    )


def _unknown(results: Mapping[str, Result], known: Mapping[str, Test], *, added: bool) -> Finding:
    """Whether the launcher has tests that were not found, such as tests created in a loop.

    ``added``: they are to be run, too.
    """
    others = [address for address in results if "#" in address and address not in known]
    if not others:
        return Finding("without names", State.OK, "all tests that the launcher runs were found")
    named = ", ".join(others[:SOME])
    message = (
        f"{len(others)} tests that were not found run only if the launcher gets no names: {named}"
    )
    if added:
        return Finding("without names", State.OK, message)
    hint = "run.names.omit = 'always' also runs them each time all tests of their file are selected"
    return Finding("without names", State.WRONG, message, mend=hint)


def _reported(
    known: Mapping[str, Test],
    results: Mapping[str, Result],
    warnings: Sequence[str],
    *,
    added: bool,
) -> Iterator[Finding]:
    """Whether the results match the tests that were found, and the exit code agrees.

    With ``added``, the tests that only the launcher knows also run.
    """
    lost = [a for a in known if a not in results or not _came_back(results[a])]
    strange = [a for a, result in results.items() if result.account is Discrepancy.ADDED]
    whole = [r for a, r in results.items() if a not in known and "#" not in a]
    silent = {a: results[a].message if a in results else "no result was reported" for a in lost}
    for message, addresses in _by_words(silent):
        printed = [r.output for a in lost if (r := results.get(a)) and r.message == message]
        line = f"{addresses}: {message}{_last_of(max(printed, default='', key=len))}"
        yield Finding("reported", State.WRONG, line, mend=_mended_by(message, strange))
    for address in [] if added else strange[:SOME]:
        message = f"the report contains {address}, but this test was not found"
        yield Finding("reported", State.WRONG, message, mend=_FIND)
    again = [message for message in warnings if RAN_AGAIN in message]
    for message in again:
        hint = "check run.names: how several names are written"
        yield Finding("reported", State.WRONG, message.partition(": ")[2], mend=hint)
    if not lost and not again and (added or not strange):
        yield Finding("reported", State.OK, "all tests that were found have a result")
    for result in whole:
        yield Finding("exit code", State.WRONG, result.message, mend="run.passed and run.failed")
    if not whole and not lost:
        yield Finding("exit code", State.OK, "the exit code agrees with the report")


def _by_words(words_of: Mapping[str, str]) -> Iterator[tuple[str, str]]:
    """Equal texts once, with the first address and the number of further ones."""
    groups: dict[str, list[str]] = {}
    for address, message in words_of.items():
        groups.setdefault(message, []).append(address)
    for message, addresses in groups.items():
        others = f" and {len(addresses) - 1} more" if len(addresses) > 1 else ""
        yield message, f"{addresses[0]}{others}"


def _came_back(result: Result) -> bool:
    return result.account is not Discrepancy.MISSING and result.outcome is not Outcome.BLOCKED


def _last_of(printed: str) -> str:
    """The last lines of the launcher's output, which usually contain the reason."""
    lines = [line for line in printed.splitlines() if any(map(str.isalnum, line))][-LINES:]
    return "".join(f"\n  {line}" for line in lines)


def _mended_by(message: str, strange: Sequence[str]) -> str:
    """The hint for a test without a result, when ``strange`` tests had one."""
    if strange and message.startswith("no result was reported"):
        name = strange[0].partition("#")[2]
        return (
            f"the report contains '{name}'; run.names.name "
            f"and read.name must give the same name for a test"
        )
    mends = (mend for start, mend in _MENDS.items() if message.startswith(start))
    return next(mends, "check read.format, and the files that the launcher wrote")


def _alone(run: _Runs, about: str, addresses: Sequence[str], outcome: Outcome) -> Finding:
    """Whether the selected tests run, and no other test runs with them."""
    results = run.of(addresses)
    others = [address for address in results if address not in addresses]
    if others:
        message = f"{others[0]} also ran, although only {addresses[0]} was selected"
        return Finding(about, State.WRONG, message, mend="check run.names")
    for address in addresses:
        ended = results.get(address)
        if ended is None or ended.outcome is not outcome:
            came = f"{ended.outcome}: {ended.message}" if ended else "no result"
            message = f"unexpected result of {address}: {came}".rstrip(": ")
            return Finding(about, State.WRONG, message, mend="check run.names")
    message = addresses[0] if len(addresses) == 1 else f"{len(addresses)} tests"
    return Finding(about, State.OK, f"{message}: {outcome}; no other test ran")
