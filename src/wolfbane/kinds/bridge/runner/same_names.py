"""Finds the test of each report entry where several tests have the name that the report uses.

An entry is never given to a test by a guess: tests that cannot be distinguished are errors.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from wolfbane.formats.reported import ReportedTest
from wolfbane.kinds.bridge.runner.naming import LauncherName

_JOINTS = re.compile(r"::|[./\\]")
"""Marks between the parts of a path, a module or a package."""


@dataclass
class SameNames:
    """The tests with one name in the report, and the entries with this name, or of their parts."""

    tests: Sequence[LauncherName]
    entries: list[ReportedTest] = field(default_factory=list)
    parts: list[ReportedTest] = field(default_factory=list)

    def matched(self, path: Callable[[ReportedTest], str], *, in_order: bool) -> Matched:
        """Each test with its entries, as far as the report shows which are whose.

        By the file that an entry names (``path``), by its line, by the package or the group that it
        names; the rest if all are alike. ``in_order``: the report has the tests of a file in the
        order of the source.
        """
        result: dict[str, list[ReportedTest]] = {}
        if any(part.outcome.is_bad for part in self.parts):
            return Matched(result, self.tests, self._reason(self.parts))
        if self.parts and not self.entries:
            first = replace(self.parts[0], seconds=0.0, output="", attachments=())
            return Matched({test.address: [first] for test in self.tests}, [], "")
        left = self._by_file(path, result, in_order=in_order)
        left = self._by_line(left, result)
        left = self._by_place(left, result)
        waiting = [test for test in self.tests if test.address not in result]
        if not left:
            return Matched(result, [], "")
        if not waiting:  # more entries than tests: they may be of any
            waiting = list(self.tests)
        if len(waiting) == 1:
            result.setdefault(waiting[0].address, []).extend(left)
            return Matched(result, [], "")
        if in_order and len({test.path for test in waiting}) == 1 and len(left) == len(waiting):
            result.update(
                {test.address: [entry] for test, entry in zip(waiting, left, strict=True)}
            )
            return Matched(result, [], "")
        if len(left) >= len(waiting) and len({entry.outcome for entry in left}) == 1:
            result.update({test.address: [_together(left)] for test in waiting})
            return Matched(result, [], "")
        return Matched(result, waiting, self._reason(left))

    def _by_file(
        self,
        path: Callable[[ReportedTest], str],
        result: dict[str, list[ReportedTest]],
        *,
        in_order: bool,
    ) -> list[ReportedTest]:
        left: list[ReportedTest] = []
        of_files: dict[str, list[ReportedTest]] = {}
        for entry in self.entries:
            where = path(entry)
            (of_files.setdefault(where, []) if where else left).append(entry)
        for where, entries in of_files.items():
            mine = [test for test in self.tests if test.path == where]
            if len(mine) == 1:
                result.setdefault(mine[0].address, []).extend(entries)
            elif mine and in_order and len(entries) == len(mine):
                result.update({t.address: [e] for t, e in zip(mine, entries, strict=True)})
            elif mine:
                left += entries
        return left

    def _by_line(
        self, entries: Iterable[ReportedTest], result: dict[str, list[ReportedTest]]
    ) -> list[ReportedTest]:
        """An entry with a line belongs to the last test of its file that starts before it."""
        left: list[ReportedTest] = []
        for entry in entries:
            before = [test for test in self.tests if 0 < test.line <= entry.line]
            files = {test.path for test in self.tests}
            if before and len(files) == 1:
                test = max(before, key=lambda each: each.line)
                result.setdefault(test.address, []).append(entry)
            else:
                left.append(entry)
        return left

    def _by_place(
        self, entries: Sequence[ReportedTest], result: dict[str, list[ReportedTest]]
    ) -> list[ReportedTest]:
        """Entries that name a package, a module or a group that only one test's file has.

        Used only if it gives every test its own entries: a group may have a file's name by chance.
        """
        waiting = [test for test in self.tests if test.address not in result]
        by_place: dict[tuple[str, str], list[ReportedTest]] = {}
        for entry in entries:
            by_place.setdefault((entry.suite, entry.group), []).append(entry)
        owners = {group: _owner(group, waiting) for group in by_place}
        named = [owner.address for owner in owners.values() if owner]
        unknown = [group for group, owner in owners.items() if owner is None]
        if len(unknown) == 1 and len(named) == len(waiting) - 1:  # the only one that is left
            rest = [test for test in waiting if test.address not in named]
            if len(rest) == 1 and len(by_place) > 1:
                owners[unknown[0]] = rest[0]
                named.append(rest[0].address)
        if not named or len(set(named)) != len(named) or None in owners.values():
            return list(entries)
        for group, owner in owners.items():
            if owner is not None:
                result.setdefault(owner.address, []).extend(by_place[group])
        return []

    def _reason(self, left: Sequence[ReportedTest]) -> str:
        outcomes = ", ".join(str(entry.outcome) for entry in left)
        many = "1 result"
        if len(left) != 1:
            many = f"{len(left)} results"
        name = self.tests[0].read_as
        return self.unclear(f"the report has {many} for '{name}' ({outcomes})")

    def unclear(self, why: str) -> str:
        """The message for a test whose result may be that of another one."""
        return (
            f"cannot be distinguished: {why}, and {len(self.tests)} tests have this name; "
            f"name the file of a test in run.command or in the report"
        )


@dataclass(frozen=True)
class Matched:
    """The entries of each test by address, the tests whose entries are unclear, and the reason."""

    entries: Mapping[str, list[ReportedTest]]
    unclear: Sequence[LauncherName]
    reason: str


def _together(entries: Sequence[ReportedTest]) -> ReportedTest:
    """One entry for several with the same outcome, because it is unclear which is whose."""
    first = replace(entries[0], seconds=0.0, output="", attachments=(), line=0)
    messages = list(dict.fromkeys(entry.message for entry in entries if entry.message))
    details = list(dict.fromkeys(entry.detail for entry in entries if entry.detail))
    if len(messages) > 1:
        many = f"one of {len(entries)} tests with this name: "
        first = replace(first, message=many + "; ".join(messages))
    return replace(first, detail="\n".join(details))


def _owner(group: tuple[str, str], tests: Sequence[LauncherName]) -> LauncherName | None:
    """The test whose path has the most parts in common with a place; None if several have."""
    tokens = {word for text in group for word in _JOINTS.split(text) if word}
    scores = {test.address: len(tokens & _parts(test)) for test in tests}
    most = max(scores.values(), default=0)
    best = [test for test in tests if scores[test.address] == most]
    if most and len(best) == 1:
        return best[0]
    return None


def _parts(test: LauncherName) -> set[str]:
    whole, _ = os.path.splitext(test.file)
    return set(_JOINTS.split(whole))


class SourceOrder:
    """Whether the report has the tests of each file in the order of the source, so far."""

    def __init__(self, tests: Sequence[LauncherName]) -> None:
        self._rank = {
            test.address: rank
            for rank, test in enumerate(sorted(tests, key=lambda t: (t.path, t.line, t.number)))
        }
        self._last: dict[str, int] = {}
        self.holds = True

    def saw(self, test: LauncherName) -> None:
        """The report has this test now."""
        rank = self._rank.get(test.address, 0)
        if test.line:
            self.holds &= self._last.get(test.path, 0) <= rank
            self._last[test.path] = rank
