"""Matches the entries of a report to the tests of one call, and finds tests without an entry."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Callable, Container, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fnmatch import fnmatch
from typing import Any

from wolfbane.exits import how_it_ended
from wolfbane.formats.reported import ReportedTest
from wolfbane.kinds.bridge.runner.emitter import Teller
from wolfbane.kinds.bridge.runner.naming import Called, called_back
from wolfbane.kinds.bridge.runner.parts import FileParts, Gathered, Naming
from wolfbane.kinds.worker.channel import Channel, Message
from wolfbane.model import Outcome

_AGAIN = "again"
"""Of an entry for a test that already has one."""


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


@dataclass(frozen=True)
class LauncherCall:
    """The purpose of one launcher call.

    ``place`` is where entries and problems count if they belong to none of several files.
    ``others`` are the known tests that were not selected, by path, name and number, and
    ``names_of_others`` their names. ``by_name``: the launcher got names, so it leaves out other
    tests. ``waits``: results are sent when the launcher has ended, because later entries may
    contradict earlier ones.
    """

    tests: Sequence[Called]
    place: str
    others: Mapping[tuple[str, str, int], str] = field(default_factory=dict)
    names_of_others: Container[str] = ()
    by_name: bool = True
    waits: bool = False


class Accounts:
    """Sends the result of each test with an entry, and an error for each test without one."""

    def __init__(self, channel: Channel, bridge: Mapping[str, Any], call: LauncherCall) -> None:
        tests, place = call.tests, call.place
        self._bridge, self._run, self._asked = bridge, bridge["run"], call
        self._gathered: dict[str, Gathered] = {}
        self._left: dict[str, list[Called]] = {}
        for test in tests:
            self._left.setdefault(test.read_as, []).append(test)
        self._chosen = {name: tuple(tests) for name, tests in self._left.items()}
        self._seen: Counter[tuple[str, str]] = Counter()
        self._last: dict[str, str] = {}
        """The address of the last test with an entry, by its name."""
        self._waiting: dict[str, tuple[str, ReportedTest]] = {}
        self._contradiction = ""
        paths = {test.file: test.path for test in tests}
        self._paths = {os.path.abspath(file): path for file, path in paths.items()}
        self._place, self._elsewhere = tests[0].path if len(paths) == 1 else place, place
        self._globs: Sequence[str] = bridge["find"]["files"]
        self._named = {(test.path, test.read_as): test.among for test in tests}
        self._bad = False
        self._alone = len(tests) == 1
        self._began = time.perf_counter()
        self._teller = Teller(channel, tests[0].address if self._alone else "")
        files = self._run["names"]["how"] == "files"
        self._parts = FileParts(self._teller, self._place) if files else None

    def taker(self, read: Mapping[str, Any]) -> Callable[[ReportedTest], None]:
        """The receiver for the entries of a report, named as in its table ``read``."""
        naming = Naming(read)
        return lambda entry: self._take(entry, naming)

    def _take(self, entry: ReportedTest, naming: Naming) -> None:
        """An entry: of a requested test, of a part of one, or of an unknown test."""
        called = naming.of(entry)
        self._bad |= entry.outcome.is_bad
        if self._parts is not None:
            self._parts.add(called, entry)
            return
        known = called in self._left or called in self._asked.names_of_others
        if not known and self._is_part(entry, called, naming):
            return
        address, account = self._address(entry, called)
        if account == _AGAIN:
            self._contradicted(address, called, entry)
        elif address in self._gathered or (address and naming.divides):
            self._gathered.setdefault(address, Gathered(account)).own = entry  # parts may follow
        elif address and self._asked.waits:
            self._waiting[address] = account, entry
        elif address:
            self._tell(address, account, entry)

    def _contradicted(self, address: str, called: str, entry: ReportedTest) -> None:
        """Another entry of a test that has one: the worse one counts."""
        if not entry.outcome.is_bad:
            return
        words = f"the test was reported more than once; the last report was: {entry.outcome}"
        worse = replace(entry, message=entry.message or words)
        gathered = self._gathered.get(address)
        if gathered is not None:
            if gathered.own is None or not gathered.own.outcome.is_bad:
                gathered.own = worse
        elif address in self._waiting:
            account, before = self._waiting[address]
            if not before.outcome.is_bad:
                self._waiting[address] = account, worse
        else:  # the result is on its way already
            self._contradiction = f"{called} was reported as passed, and later as {entry.outcome}"

    def _is_part(self, entry: ReportedTest, called: str, naming: Naming) -> bool:
        """Store an entry with the test that it is a part of, if any."""
        path = self._path(entry)
        for name, part in naming.outer(entry, called):
            mine = [
                test for test in self._chosen.get(name, ())
                if path in ("", test.path)
                and (test in self._left[name] or test.address in self._gathered)
            ]  # fmt: skip
            other = self._asked.others.get((path, name, 1))
            if mine:
                kept = self._gathered.setdefault(mine[0].address, Gathered(""))
                kept.parts.append((part, entry))
            elif other and not self._is_left_out(entry):
                kept = self._gathered.setdefault(other, Gathered("unasked"))
                kept.parts.append((part, entry))
            if mine or other:
                return True
        return False

    def _is_left_out(self, entry: ReportedTest) -> bool:
        """Whether the entry only reports that something was not selected."""
        return entry.outcome is Outcome.SKIPPED and self._asked.by_name

    def _tell(self, address: str, account: str, entry: ReportedTest) -> None:
        seconds = entry.seconds
        if self._alone and not seconds:  # a report need not say it
            seconds = round(time.perf_counter() - self._began, 6)
        self._teller.tell(address, account, entry, self._file(address), seconds)

    def _tell_waiting(self) -> None:
        for address, (account, entry) in self._waiting.items():
            self._tell(address, account, entry)
        self._waiting.clear()

    def _tell_gathered(self) -> None:
        """Tests that were reported part by part: it is now known that no more parts follow."""
        for address, kept in self._gathered.items():
            self._tell(address, kept.account, kept.whole())
            for waiting in self._left.values():
                waiting[:] = [test for test in waiting if test.address != address]

    def _address(self, entry: ReportedTest, read_as: str) -> tuple[str, str]:
        """The waiting test with this name: in the entry's file, by its number.

        Otherwise, a test that ran ``unasked``, had an earlier entry, or is ``added``. None for an
        entry that only reports a skipped selection, and for a test that had to run because it has
        the name of a selected test.
        """
        path = self._path(entry)
        self._seen[path, read_as] += 1
        number = self._seen[path, read_as]
        waiting = self._left.get(read_as, [])
        mine = [test for test in waiting if not path or (test.path, test.number) == (path, number)]
        if mine:
            waiting.remove(mine[0])
            self._last[read_as] = mine[0].address
            return mine[0].address, ""
        if self._is_left_out(entry) or number <= self._named.get((path, read_as), 0):
            return "", ""
        if other := self._asked.others.get((path, read_as, number)):
            return other, "unasked"
        if last := self._last.get(read_as):
            return last, _AGAIN
        place = path or self._place
        file = self._file(f"{place}#")
        name = called_back(read_as, file, self._bridge) if file else None
        if name is not None and number == 1:
            self._teller.meet(f"{place}#{name.whole}", name.group)
            return f"{place}#{name.whole}", "added"
        again = f" ({number})" if number > 1 else ""
        return f"{place}#{read_as}{again}", "added"

    def _path(self, entry: ReportedTest) -> str:
        """The path of the entry's file, or empty if several are possible.

        Another test file is never used for these: it may have tests with the same names.
        """
        place = os.path.abspath(entry.file) if entry.file else ""
        if place in self._paths:
            return self._paths[place]
        name = os.path.basename(place)
        if any(fnmatch(name, glob) for glob in self._globs) and os.path.exists(place):
            return self._elsewhere
        return self._place if len(self._paths) == 1 else ""

    def _file(self, address: str) -> str:
        path = address.partition("#")[0]
        return next((file for file, known in self._paths.items() if known == path), "")

    def close(self, verdict: LauncherVerdict) -> None:
        """A test without an entry is an error. So is an exit code that contradicts the report."""
        if self._bridge["read"]["format"] == "exit":
            self._close_by_exit_code(verdict)
            return
        self._tell_waiting()
        self._tell_gathered()
        code, known = verdict.code, (*self._run["passed"], *self._run["failed"])
        strange = "" if code is None or code in known else how_it_ended(code)
        if self._parts is not None:
            self._close_file(self._parts, verdict, strange)
            return
        outcome = "timed out" if verdict.ended else "errored"
        silent = (
            f"no result was reported ({how_it_ended(code)})" if code else "no result was reported"
        )
        why = verdict.ended or verdict.trouble or self._contradiction
        if waiting := [test for tests in self._left.values() for test in tests]:
            if strange and not verdict.ended:
                why = "; ".join(filter(None, (f"the launcher ended unexpectedly: {strange}", why)))
            why = why or silent
            addresses = [test.address for test in waiting]
            end = {"outcome": outcome, "message": why, "account": "missing"}
            first = {**end, "seconds": verdict.seconds if verdict.ended else 0.0}
            self._teller.end(addresses[:1], first, verdict.shown)  # said once, for all of them
            self._teller.end(addresses[1:], end, "")
        elif wrong := why or self._disagreement(code, strange):
            self._teller.end([self._place], {"outcome": outcome, "message": wrong}, verdict.shown)

    def _close_by_exit_code(self, verdict: LauncherVerdict) -> None:
        """The exit code is the outcome."""
        code = verdict.code
        how = (
            "no exit code was returned"
            if code is None
            else f"the launcher ended: {how_it_ended(code)}"
        )
        end: Message = {"outcome": "errored", "message": how}
        if verdict.ended:
            end = {"outcome": "timed out", "message": verdict.ended}
        elif code in self._run["passed"]:
            end = {"outcome": "passed"}
        elif code is not None and code in self._run["failed"]:
            end = {"outcome": "failed", "message": how_it_ended(code)}
        end["seconds"] = verdict.seconds
        self._teller.end([test.address for test in self._asked.tests], end, verdict.output)

    def _close_file(self, parts: FileParts, verdict: LauncherVerdict, strange: str) -> None:
        parts.flush()
        wrong = verdict.ended or verdict.trouble
        wrong = wrong or ("" if parts.total else strange or "no result was reported")
        wrong = wrong or self._disagreement(verdict.code, strange)
        end = parts.verdict()
        if wrong:
            outcome = "timed out" if verdict.ended else "errored"
            end = {"outcome": outcome, "message": wrong, "account": "missing"}
        end["seconds"] = verdict.seconds
        self._teller.end([self._place], end, verdict.output)

    def _disagreement(self, code: int | None, strange: str) -> str:
        """The contradiction between the exit code and the report."""
        if code is None:
            return ""
        if strange:
            return f"the launcher ended unexpectedly ({strange}), although its report is complete"
        if self._bad and code not in self._run["failed"]:
            return f"tests failed in the report, but the exit code is {code}"
        if not self._bad and code not in self._run["passed"]:
            return f"no failed tests in the report, but the exit code is {code}"
        return ""

    def end_all(self, verdict: Message) -> None:
        """The same result for every test of the call."""
        self._teller.end([test.address for test in self._asked.tests], verdict, "")
