"""The purpose of one start of a launcher, and how it ended."""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.kinds.bridge.runner.naming import LauncherName
from wolfbane.kinds.worker.channel import Message

_SIGNALLED = 128
"""A shell adds the number of the signal that ended a program to this exit code."""
_MOST_SIGNALS = 64


@dataclass(frozen=True)
class LauncherVerdict:
    """The end of a call. ``ended`` is the reason if it was stopped; ``trouble`` is a reading error.

    ``code`` is None for a launcher that keeps running and gives none. ``asked`` is the command that
    was started, or the line that was sent.
    """

    code: int | None
    ended: str = ""
    trouble: str = ""
    output: str = ""
    seconds: float = 0.0
    asked: str = ""

    @property
    def shown(self) -> str:
        """The command, and its output."""
        return f"$ {self.asked}\n{self.output}"

    def unexpected(self, run: Mapping[str, Any]) -> str:
        """The end, if its exit code means neither passed nor failed."""
        known = (*run["passed"], *run["failed"])
        if self.code is None or self.code in known:
            return ""
        return how_it_ended(self.code)

    def is_crash(self, run: Mapping[str, Any]) -> bool:
        """Whether a signal ended the launcher, or the program that it started."""
        code = self.code or 0
        signalled = code < 0 or _SIGNALLED < code <= _SIGNALLED + _MOST_SIGNALS
        return signalled and bool(self.unexpected(run))

    def without_result(self, run: Mapping[str, Any], contradiction: str) -> Message:
        """The outcome of a test that has no result."""
        strange = self.unexpected(run)
        why = self.ended or self.trouble or contradiction
        if strange and not self.ended:
            why = "; ".join(filter(None, (f"the launcher ended unexpectedly: {strange}", why)))
        silent = "no result was reported"
        why = why or (f"{silent} ({how_it_ended(self.code)})" if self.code else silent)
        outcome = "errored"
        if self.ended:
            outcome = "timed out"
        outcome = "crashed" if not self.ended and self.is_crash(run) else outcome
        return {"outcome": outcome, "message": why, "account": "missing"}

    def unseen(self, *, reported: bool) -> str:
        """Why a start without names, which ``reported`` tests or not, did not show all tests."""
        ended = self.ended or (how_it_ended(self.code) if self.code is not None else "no exit code")
        if self.trouble:
            why = f"{ended}; {self.trouble}"
        else:
            why = ended
        many = "no test"
        if reported:
            many = "not all of its tests"
        return f"without names, the launcher reported {many} ({why})"

    def by_exit_code(self, run: Mapping[str, Any]) -> Message:
        """The outcome of a test whose only report is the exit code."""
        ended = f"the launcher ended: {how_it_ended(self.code)}"
        how = "no exit code was returned"
        if self.code is not None:
            how = ended
        outcome = "errored"
        if self.is_crash(run):
            outcome = "crashed"
        end: Message = {"outcome": outcome, "message": how}
        if self.ended:
            end = {"outcome": "timed out", "message": self.ended}
        elif self.code in run["passed"]:
            end = {"outcome": "passed"}
        elif self.code is not None and self.code in run["failed"]:
            end = {"outcome": "failed", "message": how_it_ended(self.code)}
        return {**end, "seconds": self.seconds}

    def disagreement(self, run: Mapping[str, Any], *, bad: int) -> str:
        """The contradiction between the exit code and a complete report with ``bad`` failures.

        The exit code of some launchers is the number of failures.
        """
        strange = self.unexpected(run)
        if self.code is None or (bad > 1 and self.code == bad):
            return ""
        if strange:
            return f"the launcher ended unexpectedly ({strange}), although its report is complete"
        if bad and self.code not in run["failed"]:
            return f"tests failed in the report, but the exit code is {self.code}"
        if not bad and self.code not in run["passed"]:
            return f"no failed tests in the report, but the exit code is {self.code}"
        return ""


@dataclass(frozen=True)
class LauncherCall:
    """The purpose of one launcher call.

    ``file`` is where entries and problems count if they belong to none of several files.
    ``others`` are the known tests that were not selected but that the launcher may run.
    ``by_name``: the launcher got names, so it leaves out other tests. ``waits``: results are sent
    when the launcher has ended, because later entries may contradict earlier ones.
    ``names_files``: the launcher runs only the tests of the files in this call.
    ``for_others``: the call is to find tests that were not found, so known tests do not count.
    ``only``: the launcher runs all tests in each start, so results of others do not count.
    ``elsewhere`` are addresses of ``others`` that are selected: they have a start for themselves.
    """

    tests: Sequence[LauncherName]
    file: str
    others: Sequence[LauncherName] = field(default_factory=tuple)
    by_name: bool = True
    waits: bool = False
    names_files: bool = False
    for_others: bool = False
    elsewhere: Container[str] = ()
    only: bool = False

    @property
    def owners(self) -> dict[str, list[LauncherName]]:
        """The tests that an entry may belong to, by their name in the report.

        These are the selected tests, and those that the launcher runs because it knows them under
        the same names.
        """
        owners: dict[str, list[LauncherName]] = {}
        asked = {test.known_as for test in self.tests}
        for test in self.tests:
            owners.setdefault(test.read_as, []).append(test)
        for test in self.others:
            if test.read_as in owners and (not self.by_name or test.known_as in asked):
                owners[test.read_as].append(test)
        for tests in owners.values():
            tests.sort(key=lambda test: (test.path, test.number))
        return owners
