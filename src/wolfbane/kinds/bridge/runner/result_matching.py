"""Matches the entries of a report to the tests of one call, and finds tests without an entry."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from fnmatch import fnmatch
from typing import Any

from wolfbane.formats.reported import ReportedTest
from wolfbane.kinds.bridge.runner.emitter import ResultEmitter
from wolfbane.kinds.bridge.runner.launcher_call import LauncherCall, LauncherVerdict
from wolfbane.kinds.bridge.runner.naming import LauncherName, called_back
from wolfbane.kinds.bridge.runner.parts import FileParts, Gathered, Naming
from wolfbane.kinds.bridge.runner.same_names import SameNames, SourceOrder
from wolfbane.kinds.worker.channel import Channel, Message
from wolfbane.model import Outcome


class Accounts:
    """Sends the result of each test with an entry, and finds the tests without one."""

    def __init__(self, channel: Channel, bridge: Mapping[str, Any], call: LauncherCall) -> None:
        self._bridge, self.run, self._asked = bridge, bridge["run"], call
        self._owners = call.owners
        self._same = {
            name: SameNames(tests) for name, tests in self._owners.items() if len(tests) > 1
        }
        self._others: dict[str, list[LauncherName]] = {}
        for test in call.others:
            self._others.setdefault(test.read_as, []).append(test)
        self._left = {test.address: test for test in call.tests}
        self._gathered: dict[str, Gathered] = {}
        self._waiting: dict[str, tuple[str, ReportedTest]] = {}
        self._told: set[str] = set()
        self._seen: Counter[str] = Counter()
        self._contradiction = ""
        paths = {test.file: test.path for test in (*call.tests, *call.others)}
        self._paths = {os.path.abspath(file): path for file, path in paths.items()}
        mine = {test.path for test in call.tests}
        self._one = next(iter(mine)) if len(mine) == 1 else ""
        self._globs: Sequence[str] = bridge["find"]["files"]
        self._order = SourceOrder((*call.tests, *call.others))
        self._bad = 0
        self._alone = len(call.tests) == 1
        self._began = time.perf_counter()
        ahead = self._alone and not self.run["start_timeout"]  # a start's time is not the test's
        self._teller = ResultEmitter(channel, call.tests[0].address if ahead else "")
        files = self.run["names"]["how"] == "files"
        self._parts = FileParts(self._teller, self._one) if files else None
        self._begun = ""
        self.entries = 0
        self.names_files = True
        """Whether every entry so far named its file."""

    def taker(self, read: Mapping[str, Any]) -> Callable[[ReportedTest], None]:
        """The receiver for the entries of a report, named as in its table ``read``."""
        naming = Naming(read)
        return lambda entry: self._take(entry, naming)

    def beginner(self, read: Mapping[str, Any]) -> Callable[[ReportedTest], None]:
        """The receiver for the tests that begin, if the launcher reports it."""
        naming = Naming(read)

        def begin(entry: ReportedTest) -> None:
            owners = self._owners.get(naming.of(entry), [])
            path = self._path(entry)
            mine = [test for test in owners if not path or test.path == path]
            self._begun = mine[0].address if len(mine) == 1 else ""

        return begin

    def _take(self, entry: ReportedTest, naming: Naming) -> None:
        """An entry: of a requested test, of a part of one, or of an unknown test."""
        called = naming.of(entry)
        self.entries += 1
        self.names_files &= bool(entry.file) and self._path(entry) != ""
        self._bad += entry.outcome.is_bad
        if self._parts is not None:
            self._parts.add(called, entry)
            return
        known = called in self._owners or called in self._others
        if not known and self._is_part(entry, called, naming):
            return
        if same := self._same.get(called):
            same.entries.append(entry)
            return
        path = self._path(entry)
        own = next((t for t in self._owners.get(called, ()) if path in ("", t.path)), None)
        if own is None:
            self._of_others(entry, called, path)
        elif own.address in self._left or own.address in self._told:
            self._order.saw(own)
            self._of(own.address, "", entry, divides=naming.divides)

    def _of(self, address: str, account: str, entry: ReportedTest, *, divides: bool) -> None:
        """An entry of a known test: its result, or another one after it."""
        if address == self._begun:
            self._begun = ""
        kept = self._gathered.get(address)
        if kept is not None and kept.own is None:  # its parts came before
            kept.own = entry
        elif address in self._told:
            self._contradicted(address, entry)
        elif divides:
            self._gathered[address] = Gathered(account, entry)  # parts may follow
        elif self._asked.waits:
            self._waiting[address] = account, entry
        else:
            self._tell(address, account, entry)
        self._told.add(address)
        self._left.pop(address, None)

    def _contradicted(self, address: str, entry: ReportedTest) -> None:
        """Another entry of a test that has one: the worse one counts."""
        if not entry.outcome.is_bad:
            return
        message = f"the test was reported more than once; the last report was: {entry.outcome}"
        worse = replace(entry, message=entry.message or message)
        gathered = self._gathered.get(address)
        if gathered is not None:
            if gathered.own is None or not gathered.own.outcome.is_bad:
                gathered.own = worse
        elif address in self._waiting:
            account, before = self._waiting[address]
            if not before.outcome.is_bad:
                self._waiting[address] = account, worse
        else:  # the result is on its way already
            self._contradiction = (
                f"{entry.name} was reported as passed, and later as {entry.outcome}"
            )

    def _is_part(self, entry: ReportedTest, called: str, naming: Naming) -> bool:
        """Store an entry with the test that it is a part of, if any."""
        path = self._path(entry)
        for name, part in naming.outer(entry, called):
            mine = [test for test in self._owners.get(name, ()) if path in ("", test.path)]
            if len(mine) > 1:
                self._same[name].parts.append(entry)
                return True
            others = [test for test in self._others.get(name, ()) if path in ("", test.path)]
            if mine and (mine[0].address in self._left or mine[0].address in self._gathered):
                kept = self._gathered.setdefault(mine[0].address, Gathered(""))
                kept.parts.append((part, entry))
                self._left.pop(mine[0].address, None)
                self._told.add(mine[0].address)
                return True
            elsewhere = any(test.address in self._asked.elsewhere for test in others)
            if len(others) == 1 and not (mine or elsewhere or self._is_left_out(entry)):
                kept = self._gathered.setdefault(others[0].address, Gathered("unasked"))
                kept.parts.append((part, entry))
            if mine or others:
                return True
        return False

    def _is_left_out(self, entry: ReportedTest) -> bool:
        """Whether the entry only reports that something was not selected."""
        return entry.outcome is Outcome.SKIPPED and self._asked.by_name

    def _of_others(self, entry: ReportedTest, called: str, path: str) -> None:
        """An entry of a known test that was not selected, or of one that is new: ``added``."""
        if self._asked.only or self._is_left_out(entry):
            return
        others = [test for test in self._others.get(called, ()) if path in ("", test.path)]
        if others:
            known = self._asked.for_others or others[0].address in self._asked.elsewhere
            if len(others) == 1 and not known:
                self._of(others[0].address, "unasked", entry, divides=False)
            return
        address = self._new_address(called, path)
        self._of(address, "added", entry, divides=False)

    def _new_address(self, called: str, path: str) -> str:
        """The address of a test that only the launcher knows, or of a whole file."""
        if whole := self._paths.get(os.path.abspath(called)):
            return whole
        limited = self._asked.names_files or not self._asked.others
        owner = path or (self._one if limited else "") or self._asked.file
        file = next((file for file, known in self._paths.items() if known == owner), "")
        self._seen[f"{owner}#{called}"] += 1
        number = self._seen[f"{owner}#{called}"]
        name = called_back(called, file, self._bridge) if file else None
        if name is not None and number == 1:
            self._teller.meet(f"{owner}#{name.whole}", name.group)
            return f"{owner}#{name.whole}"
        again = f" ({number})" if number > 1 else ""
        return f"{owner}#{called}{again}"

    def _tell(self, address: str, account: str, entry: ReportedTest) -> None:
        seconds = entry.seconds
        if self._alone and not seconds:  # a report need not say it
            seconds = round(time.perf_counter() - self._began, 6)
        path = address.partition("#")[0]
        file = next((file for file, known in self._paths.items() if known == path), "")
        self._teller.tell(address, account, entry, file, seconds)

    def _path(self, entry: ReportedTest) -> str:
        """The path of the entry's file, or empty if several are possible.

        Another test file is never used for these: it may have tests with the same names.
        """
        path = os.path.abspath(entry.file) if entry.file else ""
        if path in self._paths:
            return self._paths[path]
        name = os.path.basename(path)
        if any(fnmatch(name, glob) for glob in self._globs) and os.path.exists(path):
            return self._asked.file
        return self._one if self._asked.names_files else ""

    def close(self, verdict: LauncherVerdict) -> list[LauncherName]:
        """The launcher has ended: send what waits. Returns the tests without an entry.

        An exit code that contradicts a complete report is an error.
        """
        if self._bridge["read"]["format"] == "exit":
            addresses = [test.address for test in self._asked.tests]
            self._teller.end(addresses, verdict.by_exit_code(self.run), verdict.output)
            return []
        for address, (account, entry) in self._waiting.items():
            self._tell(address, account, entry)
        for address, kept in self._gathered.items():
            self._tell(address, kept.account, kept.whole())
        self._tell_same_names(cut=bool(verdict.ended) or verdict.is_crash(self.run))
        if self._parts is not None:
            self._close_file(self._parts, verdict)
            return []
        if not (self._left or self._asked.for_others or self._asked.only):
            wrong = verdict.ended or verdict.trouble or self._contradiction
            if wrong := wrong or verdict.disagreement(self.run, bad=self._bad):
                outcome = "timed out" if verdict.ended else "errored"
                end = {"outcome": outcome, "message": wrong}
                self._teller.end([self._one or self._asked.file], end, verdict.shown)
        return list(self._left.values())

    def _tell_same_names(self, *, cut: bool) -> None:
        """The results of tests with one name. If the report was ``cut``, unclear ones stay left."""
        for same in self._same.values():
            if not same.entries and not same.parts:
                continue
            matched = same.matched(self._path, in_order=self._order.holds)
            unclear = {test.address for test in matched.unclear}
            for test in same.tests:
                if self._left.pop(test.address, None) is None:
                    continue
                entries = matched.entries.get(test.address, [])
                if test.address in unclear and not cut:
                    end = {"outcome": "errored", "message": matched.reason, "account": "missing"}
                    self._teller.end([test.address], end, "")
                elif entries:
                    bad = [entry for entry in entries if entry.outcome.is_bad]
                    self._tell(test.address, "", (bad or entries)[0])
                else:
                    self._left[test.address] = test

    def running(self, left: Sequence[LauncherName]) -> LauncherName | None:
        """The test that was running when the launcher ended, if the launcher said so."""
        return next((test for test in left if test.address == self._begun), None)

    def give_up(self, tests: Sequence[LauncherName], verdict: LauncherVerdict) -> None:
        """The tests get no result. The launcher's output is shown once, for all of them."""
        end = verdict.without_result(self.run, self._contradiction)
        output, took = verdict.shown, verdict.seconds if verdict.ended else 0.0
        for test in tests:
            told = {**end, "seconds": took}
            same = self._same.get(test.read_as)
            if same and test.address != self._begun:  # another test may be the guilty one
                told.update(outcome="errored", message=same.unclear(str(end["message"])))
            self._teller.end([test.address], told, output)
            output, took = "", 0.0

    def _close_file(self, parts: FileParts, verdict: LauncherVerdict) -> None:
        parts.flush()
        wrong = verdict.ended or verdict.trouble
        silent = verdict.unexpected(self.run) or "no result was reported"
        wrong = wrong or ("" if parts.total else silent)
        wrong = wrong or verdict.disagreement(self.run, bad=self._bad)
        end = parts.verdict()
        if wrong:
            outcome = "timed out" if verdict.ended else "errored"
            end = {"outcome": outcome, "message": wrong, "account": "missing"}
        end["seconds"] = verdict.seconds
        self._teller.end([self._one], end, verdict.output)

    def disagreement(self, verdict: LauncherVerdict) -> str:
        return verdict.disagreement(self.run, bad=self._bad)

    def tell_early(self, verdict: LauncherVerdict) -> None:
        """The start ended early, but each test without a result passed when it ran again."""
        end = verdict.without_result(self.run, self._contradiction)
        message = f"{end['message']}; the tests without a result ran again, and did not repeat it"
        file = self._one or self._asked.file
        self._teller.end([file], {"outcome": "errored", "message": message}, verdict.shown)

    def end_all(self, verdict: Message) -> None:
        """The same result for every test of the call."""
        self._teller.end([test.address for test in self._asked.tests], verdict, "")
