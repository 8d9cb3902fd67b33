"""Runs the selected tests of a request, in as few starts of the launcher as possible."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from wolfbane.kinds.bridge.runner.calls import in_calls, reason_not_addressable, separate, start_key
from wolfbane.kinds.bridge.runner.launcher_call import LauncherCall
from wolfbane.kinds.bridge.runner.naming import LauncherName, called
from wolfbane.kinds.bridge.runner.one_start import LauncherStarter, StartEnd
from wolfbane.kinds.bridge.runner.recovery import run_shared
from wolfbane.kinds.bridge.runner.result_matching import Accounts
from wolfbane.kinds.bridge.tables import WITHOUT_SELECTION
from wolfbane.kinds.worker.channel import Message
from wolfbane.kinds.worker.heartbeat import heartbeat

SUITE = "suite"
"""The value of ``compare`` in a request for the whole suite."""
Rows = Mapping[str, Sequence[Sequence[Any]]]


class ChosenTests:
    """The selected tests of one request: of one file, or of several.

    A request has ``chosen``: the names of the tests by path; ``known``: all known tests of these
    files; and ``others``: tests of other files of the suite that may have the same names. With
    ``compare``, the launcher also starts without names, and its tests that were not found are
    added: those of the ``files`` of the request, or of the whole ``suite``. Then ``others`` are all
    other files of the suite, also those without tests.
    """

    def __init__(self, starter: LauncherStarter, options: Message, request: Message) -> None:
        self._starter, self._place = starter, options["place"]
        self._run: Mapping[str, Any] = starter.bridge["run"]
        self._root: str = options["root"]
        self._compare: str = request["compare"]
        chosen, known, others = request["chosen"], request["known"], request["others"]
        self._tests = self._called(chosen, known)
        names = {path: set(tests) for path, tests in chosen.items()}
        mine = self._called({path: [row[0] for row in known[path]] for path in known}, known)
        self._unchosen = [test for test in mine if test.name not in names[test.path]]
        self._rivals = self._called(
            {path: [row[0] for row in others[path]] for path in others}, others
        )
        self._empty = [self._relative(path) for path, rows in others.items() if not rows]
        how = self._run["names"]["how"]
        self._takes_names, self._selects = how != "files", how != WITHOUT_SELECTION
        self.ran_again: list[str] = []
        """The tests that had a result only when they were started again, with fewer others."""
        self._some_left = False
        self.unseen = ""
        """The reason why tests that were not found would not have been seen."""

    def _called(self, chosen: Mapping[str, Sequence[str]], known: Rows) -> list[LauncherName]:
        return called(chosen, known, self._relative, self._starter.bridge)

    def _relative(self, path: str) -> str:
        return os.path.relpath(os.path.join(self._root, path))

    def run(self) -> None:
        """Run them all, and report each."""
        with heartbeat(self._starter.channel, self._starter.bridge["about"]):
            reasons = {
                test: why
                for test in self._tests
                if (why := reason_not_addressable(test, self._run["names"]))
            }
            for test, why in reasons.items():
                accounts = Accounts(
                    self._starter.channel, self._starter.bridge, LauncherCall([test], self._place)
                )
                accounts.end_all({"outcome": "errored", "message": why})
            tests = [test for test in self._tests if test not in reasons]
            if self._may_omit_names and not reasons:
                self._without_names(tests)
            else:
                self._by_name(tests)
                if self._compare and self._takes_names:
                    self._look_for_others()

    @property
    def _may_omit_names(self) -> bool:
        """Whether starts without names run the selected tests and no other known ones."""
        if not self._selects:
            return True
        if not self._takes_names or self._run["per"] == "test" or self._unchosen:
            return False
        if not self._compare and self._run["names"]["omit"] != "always":
            return False
        whole_suite = self._compare == SUITE and not self._rivals
        return self._starter.names_files or whole_suite

    def _by_name(self, tests: Sequence[LauncherName]) -> None:
        """Start the launcher with the names of the tests."""

        def run(some: Sequence[LauncherName]) -> None:
            again, some_left = run_shared(some, self._named)
            self.ran_again += [test.address for test in again]
            self._some_left |= some_left

        self._in_groups(tests, run, named=True)

    def _in_groups(
        self,
        tests: Sequence[LauncherName],
        run: Callable[[Sequence[LauncherName]], None],
        *,
        named: bool,
    ) -> None:
        apart = self._starter.names_files and not self._starter.entries_name_files
        left = list(tests)
        while left:
            group = separate(left, self._run, apart=apart, others=self._unchosen)[0]
            for some in in_calls(group, self._run, named=named):
                run(some)
            done = set(group)
            left = [test for test in left if test not in done]
            # If its entries name their files, tests with equal names can share a start.
            apart = apart and not self._starter.entries_name_files

    def _named(self, tests: Sequence[LauncherName]) -> StartEnd:
        """A start for some tests, which may also run others with the same names."""
        return self._starter.start(self._call(tests, by_name=True))

    def _call(self, tests: Sequence[LauncherName], *, by_name: bool) -> LauncherCall:
        own = {test.address for test in tests}
        others = [test for test in self._tests if test.address not in own]
        return LauncherCall(
            tests,
            self._place,
            self._reachable(tests, others),
            by_name=by_name,
            elsewhere={test.address for test in others},
            only=not (self._selects or self._compare),
        )

    def _reachable(
        self, tests: Sequence[LauncherName], others: Iterable[LauncherName]
    ) -> list[LauncherName]:
        """The known tests that a start for these tests may run, too."""
        reachable = [*others, *self._unchosen]
        if self._starter.names_files:
            files = {test.path for test in tests}
            return [test for test in reachable if test.path in files]
        key = start_key(tests[0], self._run)  # of a folder, if the command names that
        return [t for t in (*reachable, *self._rivals) if start_key(t, self._run) == key]

    def _without_names(self, tests: Sequence[LauncherName]) -> None:
        """Start the launcher without names. Tests that it leaves out run by name."""
        left: list[LauncherName] = []
        early: list[StartEnd] = []
        if self._compare == SUITE and self._starter.takes_files:
            with_first = self._empty
        else:
            with_first = []
        more = iter([with_first])

        def run(some: Sequence[LauncherName]) -> None:
            end = self._starter.start(self._call(some, by_name=False), next(more, ()))
            if end.running:
                end.give_up([end.running])
            rest = [test for test in end.left if test != end.running]
            if self._selects:
                left.extend(rest)
            elif rest:
                end.give_up(rest)
                self._some_left = True
            self._judge(end)
            if end.is_broken and end.has_results and end.left and not end.running:
                early.append(end)

        self._in_groups(tests, run, named=False)
        if self._compare == SUITE and not self._starter.takes_files:
            self._look_into_empty_files()
        self._by_name(left)
        if not self._some_left:
            for end in early:
                end.tell_early()

    def _look_for_others(self) -> None:
        """Start the launcher without names, only to find the tests that were not found."""
        known = [*self._tests, *self._unchosen]
        if not self._starter.names_files:
            if self._compare != SUITE:
                return
            known += self._rivals
        for some in separate(known, self._run, apart=False):
            self._look(some, list(dict.fromkeys(test.file for test in some)))
        if self._compare == SUITE:
            self._look_into_empty_files()

    def _look_into_empty_files(self) -> None:
        """Look for tests in files in which none was found, or in folders with only such files."""
        mine = (*self._tests, *self._unchosen, *self._rivals)
        known = {start_key(test, self._run) for test in mine}
        empty = [
            LauncherName(path=self._from_root(file), name="", file=file, known_as="")
            for file in self._empty
        ]
        for some in separate(empty, self._run, apart=False):
            if self._starter.takes_files or start_key(some[0], self._run) not in known:
                self._look([], [test.file for test in some])

    def _from_root(self, file: str) -> str:
        return os.path.relpath(os.path.abspath(file), self._root)

    def _look(self, known: Sequence[LauncherName], files: Sequence[str]) -> None:
        if len(files) == 1:
            file = self._from_root(files[0])
        else:
            file = self._place
        call = LauncherCall([], file, known, by_name=False, for_others=True)
        end = self._starter.start(call, files)
        if known:
            self._judge(end)

    def _judge(self, end: StartEnd) -> None:
        """Without names, a launcher has to report something, and to reach its end."""
        if end.verdict is not None and (end.is_broken or not end.has_results):
            self.unseen = self.unseen or end.verdict.unseen(reported=end.has_results)
