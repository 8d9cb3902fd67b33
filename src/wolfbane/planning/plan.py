"""Turns a selection into a plan: the exact tests in order, divided into batches for workers."""

from __future__ import annotations

import random
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from itertools import groupby
from types import MappingProxyType

import msgspec
from msgspec.structs import replace

from wolfbane.model import NESTED, Test, TestFile

GUESS = 0.01
"""Assumed duration of a test without recorded runs, in seconds."""
IN_ORDER = "in order"
PIECES = 8
"""Pieces per job into which long files are divided, so that the last piece is short."""


class Batch(msgspec.Struct, frozen=True):
    """Tests that one worker runs together. ``fresh``: the worker must be new.

    The tests of an ``again`` batch ran before in this run, and already have an outcome. They are
    from one file, or from several if a suite's launcher starts for all; ``path`` is the first.
    """

    suite: str
    path: str
    tests: tuple[Test, ...]
    seconds: float
    target: str = ""
    browser: str = ""
    fresh: bool = False
    again: bool = False


class Plan(msgspec.Struct, frozen=True):
    """The tests to run, in order, and the tests that each rule excluded."""

    batches: tuple[Batch, ...]
    left_out: Mapping[str, int]

    @property
    def paths(self) -> set[str]:
        """The files that they are in."""
        return {test.path for test in self.tests}

    @property
    def tests(self) -> list[Test]:
        """The tests in the order of distribution."""
        return [test for batch in self.batches for test in batch.tests]


def make_plan(
    chosen: Iterable[Test],
    files: Mapping[str, TestFile],
    left_out: Mapping[str, int],
    times: Mapping[str, float],
    *,
    jobs: int,
    seed: int | None = None,
    first: Container[str] = frozenset(),
    together: Mapping[str, str] = MappingProxyType({}),
) -> Plan:
    """Order the selected tests, longest file first, or at random from a seed.

    Files with a test in ``first``, by address, come before others.

    Several targets follow one after the other, in the order of the tests. Tests of one class stay
    together, because its hooks run once, and so do tests that need each other. With several jobs, a
    file that is long compared with the total is divided between classes, if its hooks allow it.
    ``together`` names the suites whose files run in one start: in a ``batch`` for each job, or as a
    whole ``suite``; and those whose files stay whole, and run ``in order`` of their names.
    """
    by_file = [list(tests) for _, tests in groupby(chosen, key=_place)]
    shuffle = random.Random(seed)
    if seed is not None:
        by_file = [_shuffled(tests, shuffle) for tests in by_file]
    batches = [_batch(tests, times) for tests in by_file]
    batches = list(_joined(batches, together, jobs))
    in_order = {suite for suite, how in together.items() if how == IN_ORDER}
    cut = list(_divided(batches, files, times, jobs=jobs, in_order=in_order))
    cut.sort(key=lambda b: b.path.split("/") if b.suite in in_order else [])
    if seed is not None:
        shuffle.shuffle(cut)
    else:
        ranks = _ranks(cut, first, in_order)
        cut.sort(key=lambda batch: ranks[id(batch)])
    targets = list(dict.fromkeys(batch.target for batch in batches))
    cut.sort(key=lambda batch: targets.index(batch.target))
    return Plan(tuple(cut), left_out)


def once_more(tests: Sequence[Test], seconds: float, *, fresh: bool = True) -> Batch:
    """A batch of tests of one file that run again; ``fresh``: in a new worker."""
    first = tests[0]
    return Batch(
        suite=first.suite,
        path=first.path,
        tests=tuple(tests),
        seconds=seconds,
        target=first.target,
        browser=first.browser,
        fresh=fresh,
        again=True,
    )


def each_apart(plan: Plan) -> Plan:
    """The plan with a batch for each test, in a new worker.

    Tests that need each other stay together.
    """
    batches: list[Batch] = []
    for batch in plan.batches:
        if any(test.needs for test in batch.tests):
            batches.append(replace(batch, fresh=True))
            continue
        seconds = batch.seconds / len(batch.tests)
        batches += (
            replace(batch, path=test.path, tests=(test,), seconds=seconds, fresh=True)
            for test in batch.tests
        )
    return replace(plan, batches=tuple(batches))


def _divided(
    batches: Sequence[Batch],
    files: Mapping[str, TestFile],
    times: Mapping[str, float],
    jobs: int,
    in_order: Container[str],
) -> Iterator[Batch]:
    """The batches, with long files in pieces if several jobs can share them."""
    share = sum(batch.seconds for batch in batches) / (PIECES * jobs)
    for batch in batches:
        whole = jobs == 1 or batch.seconds <= share or batch.suite in in_order
        if whole or not files[batch.path].divisible:
            yield batch
        else:
            yield from _cut(batch, share, times)


def _ranks(
    batches: Sequence[Batch], first: Container[str], in_order: Container[str]
) -> dict[int, tuple[bool, float, str]]:
    """The place of each batch in the order, by identity. The batches of a suite ``in_order`` have
    the same, that of the whole suite.
    """
    seconds: dict[str, float] = {}
    for batch in batches:
        seconds[batch.suite] = seconds.get(batch.suite, 0.0) + batch.seconds
    return {
        id(b): (True, -seconds[b.suite], b.suite)
        if b.suite in in_order
        else (not any(test.address in first for test in b.tests), -b.seconds, "")
        for b in batches
    }


def _place(test: Test) -> tuple[str, str, str]:
    return test.target, test.path, test.browser


def _joined(batches: Sequence[Batch], together: Mapping[str, str], jobs: int) -> Iterator[Batch]:
    """Files of suites that run together in one batch, or in one for each job."""
    groups: dict[tuple[str, str, str], list[Batch]] = {}
    for batch in batches:
        if together.get(batch.suite, IN_ORDER) != IN_ORDER:
            groups.setdefault((batch.suite, batch.target, batch.browser), []).append(batch)
        else:
            yield batch
    for (suite, _, _), members in groups.items():
        shares: list[list[Batch]] = [[] for _ in range(jobs if together[suite] == "batch" else 1)]
        for batch in sorted(members, key=lambda batch: -batch.seconds):
            min(shares, key=lambda share: sum(each.seconds for each in share)).append(batch)
        for share in filter(None, shares):
            mine = sorted(share, key=members.index)
            tests = tuple(test for batch in mine for test in batch.tests)
            yield replace(mine[0], tests=tests, seconds=sum(batch.seconds for batch in mine))


def _batch(tests: Sequence[Test], times: Mapping[str, float]) -> Batch:
    seconds = sum(times.get(test.address, times.get(test.worker_address, GUESS)) for test in tests)
    first = tests[0]
    return Batch(
        suite=first.suite,
        path=first.path,
        tests=tuple(tests),
        seconds=seconds,
        target=first.target,
        browser=first.browser,
    )


def test_groups(tests: Sequence[Test]) -> list[list[Test]]:
    """Tests by class, in order of first appearance; plain functions are single groups.

    Tests that need each other are in one group, with all of their classes.
    """
    names = {test.name: test.group or test.name for test in tests}
    joined: dict[str, str] = {}
    for test in tests:
        for need in test.needs:
            if need in names:
                joined[_root(joined, names[test.name])] = _root(joined, names[need])
    groups: dict[str, list[Test]] = {}
    for test in tests:
        groups.setdefault(_root(joined, names[test.name]), []).append(test)
    return list(groups.values())


def _root(joined: dict[str, str], name: str) -> str:
    """The group into which a group was merged."""
    while joined.get(name, name) != name:
        name = joined[name]
    return name


def _shuffled(tests: Sequence[Test], shuffle: random.Random) -> list[Test]:
    groups = test_groups(tests)
    shuffle.shuffle(groups)
    for group in groups:
        shuffle.shuffle(group)
    return [test for group in groups for test in group]


def _cut(batch: Batch, share: float, times: Mapping[str, float]) -> list[Batch]:
    """Pieces of about ``share`` seconds each, between classes."""
    pieces: list[Batch] = []
    current: list[Test] = []
    for group in test_groups(batch.tests):
        current += group
        if _batch(current, times).seconds >= share:
            pieces.append(_batch(current, times))
            current = []
    if current:
        pieces.append(_batch(current, times))
    return pieces


def arguments_around(hook: Test, batch: Batch) -> tuple[str, ...]:
    """Arguments that select the tests around a hook: its class or group, file or suite.

    None if the result belongs to a test of the batch, which can be selected by its address.
    """
    others = [other.name for other in batch.tests if other.path == hook.path]
    browser = ("--browser", hook.browser) if hook.browser else ()
    for name in (hook.name, *hook.ancestors):
        if any(other == name or other.startswith(f"{name}{NESTED}") for other in others):
            group = replace(hook, name=name).address
            if name == hook.name:
                return ()
            return (group,)
    if others:
        return (hook.path, *browser)
    return ("--suite", hook.suite, *browser)
