"""The names of tests in the requests to launchers: of the tests to run, and of others."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence

from wolfbane.model import NESTED, Test, TestFile
from wolfbane.planning.plan import Batch
from wolfbane.workers.channel import Request
from wolfbane.workers.protocol import RanMessage

RAN_AGAIN = "some tests had no result when they were started with others, and ran again"
_SHOWN = 3
Row = tuple[str, str, str, int]


class LauncherNames:
    """The names in requests to launchers. ``compared``: suites that also start without names."""

    def __init__(
        self,
        files: Mapping[str, TestFile],
        compared: Iterable[str] = (),
        without_tests: Mapping[str, Sequence[str]] | None = None,
        name_files: Iterable[str] = (),
    ) -> None:
        self._files = files
        self._compared = set(compared)
        self._empty = without_tests or {}
        self._first = dict[str, tuple[str, str]]()
        """The target and browser with which a suite is compared."""
        self._whole = set[str]()
        self._paths: dict[str, Sequence[str]] = {}
        self._by_name: dict[str, defaultdict[str, set[str]]] = {}
        self.unseen: dict[str, str] = {}
        """By suite, why its launcher could not be compared."""
        self._ran_again: dict[str, list[str]] = {}
        self.name_files = set(name_files)
        """The suites whose reports name the file of each test."""

    def request(self, batch: Batch, left: Iterable[Test]) -> Request:
        """The part of a request with the names: of the tests that are left, and of others."""
        chosen: dict[str, list[str]] = {}
        for test in left:
            chosen.setdefault(test.path, []).append(test.name)
        compare = self._compare(batch)
        known = {path: self._rows(path) for path in chosen}
        if compare == "suite":
            others = self._everything(batch)
        else:
            others = self._rivals(batch, chosen)
        return {
            "chosen": chosen,
            "known": known,
            "browser": batch.browser,
            "compare": compare,
            "others": {path: rows for path, rows in others.items() if path not in chosen},
            "names_files": batch.suite in self.name_files,
        }

    def paths(self, batch: Batch) -> Sequence[str]:
        """All files of a batch's suite, because its launcher may report tests of each."""
        if batch.suite not in self._paths:
            own = [file.path for file in self._files.values() if file.suite == batch.suite]
            self._paths[batch.suite] = [*own, *self._empty.get(batch.suite, ())]
        return self._paths[batch.suite]

    def _compare(self, batch: Batch) -> str:
        """``suite`` in the first request of a suite, ``files`` in the others of its variant."""
        if batch.suite not in self._compared or batch.again:
            return ""
        variant = (batch.target, batch.browser)
        if self._first.setdefault(batch.suite, variant) != variant:
            return ""
        if batch.suite in self._whole:
            return "files"
        self._whole.add(batch.suite)
        return "suite"

    def _rows(self, path: str) -> list[Row]:
        return [(t.name, t.group, t.source_name, t.line) for t in self._files[path].tests]

    def _everything(self, batch: Batch) -> dict[str, list[Row]]:
        return {path: self._rows(path) if path in self._files else [] for path in self.paths(batch)}

    def _rivals(self, batch: Batch, chosen: Mapping[str, Sequence[str]]) -> dict[str, list[Row]]:
        """The tests of other files whose last names are the same as those of selected tests."""
        if batch.suite not in self._by_name:
            index = self._by_name[batch.suite] = defaultdict(set)
            for path in self.paths(batch):
                if path in self._files:
                    for name, *_ in self._rows(path):
                        index[_last(name)].add(path)
        index = self._by_name[batch.suite]
        names = {_last(name) for tests in chosen.values() for name in tests}
        paths = {path for name in names for path in index.get(name, ())}
        return {
            path: [row for row in self._rows(path) if _last(row[0]) in names]
            for path in sorted(paths - chosen.keys())
        }

    def ran(self, suite: str, message: RanMessage) -> None:
        """A request has ended."""
        if message.unseen:
            self.unseen[suite] = message.unseen
        if message.ran_again:
            self._ran_again.setdefault(suite, []).extend(message.ran_again)
        if message.names_files:
            self.name_files.add(suite)
        else:
            self.name_files.discard(suite)

    def warnings(self) -> Iterator[str]:
        """The launchers that could not be compared, and what to do."""
        for suite, names in self.unseen.items():
            yield (
                f"{suite}: {names}, so tests that were not found may not have run; if the launcher "
                f"always needs names, set run.names.omit = 'never'"
            )
        for suite, tests in self._ran_again.items():
            more = ""
            if len(tests) > _SHOWN:
                more = ", ..."
            yield f"{suite}: {RAN_AGAIN}: {', '.join(tests[:_SHOWN])}{more}"


def _last(name: str) -> str:
    return name.rpartition(NESTED)[2]
