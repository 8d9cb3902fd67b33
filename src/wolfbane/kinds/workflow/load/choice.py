"""Chooses the next workflows of a user: all in order, or one at a time, in turn, at random or by
weight.
"""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping, Sequence

from wolfbane.kinds.workflow.load.shape import LoadShare
from wolfbane.kinds.workflow.runner.test_run import ReadyTest

IN_TURN, AT_RANDOM, ONCE = "in turn", "at random", "once"
"""The row that a workflow uses each time; without any of these, it uses all rows."""


class WorkflowChoice:
    """Chooses for the users of one process. ``weights`` are by the addresses of tests.

    Rows that are used in turn or once are distributed among the processes.
    """

    def __init__(
        self,
        tests: Sequence[ReadyTest],
        weights: Mapping[str, float],
        rows: str,
        share: LoadShare,
        chance: random.Random,
        *,
        shuffled: bool,
    ) -> None:
        self._tests, self._weights, self._rows = tests, weights, rows
        self._share, self._chance, self._shuffled = share, chance, shuffled
        self._mixed = [r for r in tests if not weights or weights.get(address_of(r), 0.0) > 0]
        self._whole: dict[tuple[str, str], float] = {}
        """The weight of each workflow: that of all its rows."""
        for ready in self._mixed:
            key = _workflow(ready)
            self._whole[key] = self._whole.get(key, 0.0) + weights.get(address_of(ready), 1.0)
        self._turn = 0
        self._taken: dict[tuple[str, str], int] = {}
        self.empty: set[str] = set()
        """Workflows whose rows have run out."""

    def next_ones(self) -> list[ReadyTest]:
        """The next workflows of a looping user: all, or one by weight. Empty: nothing left."""
        if self._weights:
            return self.next_one()
        chosen = self._with_one_row(self._tests)
        if self._shuffled:
            chosen = list(chosen)
            self._chance.shuffle(chosen)
        by_identity: dict[int, ReadyTest] = {}
        for ready in chosen:
            self._use(ready)
            by_identity.update((id(each), each) for each in self._with_needs(ready))
        return list(by_identity.values())

    def next_one(self) -> list[ReadyTest]:
        """The workflows of an arrival: one workflow, after those that it needs."""
        candidates = self._with_one_row(self._mixed)
        if not candidates:
            return []
        if self._weights:
            weights = [self._weight(ready) for ready in candidates]
            ready = self._chance.choices(candidates, weights)[0]
        elif self._shuffled:
            ready = self._chance.choice(candidates)
        else:
            position = self._share.number + self._turn * self._share.count
            self._turn += 1
            ready = candidates[position % len(candidates)]
        self._use(ready)
        return list(self._with_needs(ready))

    def _weight(self, ready: ReadyTest) -> float:
        """The weight of a candidate: a row that stands for its workflow has the whole weight."""
        if self._rows and ready.case.name != ready.case.workflow:
            return self._whole[_workflow(ready)]
        return self._weights[address_of(ready)]

    def _with_needs(self, ready: ReadyTest) -> Iterator[ReadyTest]:
        for other in self._tests:
            if other.library is ready.library and other.case.name in ready.case.needs:
                yield from self._with_needs(other)
        yield ready

    def _with_one_row(self, tests: Sequence[ReadyTest]) -> list[ReadyTest]:
        """The tests, but only the next row if several are rows of one workflow."""
        if not self._rows:
            return list(tests)
        groups: dict[tuple[str, str], list[ReadyTest]] = {}
        for ready in tests:
            groups.setdefault(_workflow(ready), []).append(ready)
        taken = []
        for key, members in groups.items():
            if members[0].case.name == members[0].case.workflow:
                taken += members
            elif (row := self._row(key, members)) is not None:
                taken.append(row)
        return taken

    def _row(self, key: tuple[str, str], members: Sequence[ReadyTest]) -> ReadyTest | None:
        if self._rows == AT_RANDOM:
            return self._chance.choice(members)
        taken = self._taken.setdefault(key, 0)
        position = self._share.number + taken * self._share.count
        if self._rows == ONCE and position >= len(members):
            self.empty.add(key[1])
            return None
        return members[position % len(members)]

    def _use(self, ready: ReadyTest) -> None:
        """The next time, its workflow uses its next row."""
        key = _workflow(ready)
        if key in self._taken:
            self._taken[key] += 1


def address_of(ready: ReadyTest) -> str:
    """``PATH#NAME``."""
    return f"{ready.library.path}#{ready.case.name}"


def _workflow(ready: ReadyTest) -> tuple[str, str]:
    return ready.library.path, ready.case.workflow
