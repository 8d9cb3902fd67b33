"""Runs tests in shared starts. After a crash or a hang, the rest is started again."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from wolfbane.kinds.bridge.runner.naming import LauncherName
from wolfbane.kinds.bridge.runner.one_start import StartEnd

_FRUITLESS = 2
"""Starts in a row without a result, after a launcher that ended in an ordinary way."""
Start = Callable[[Sequence[LauncherName]], StartEnd]


def run_shared(tests: Sequence[LauncherName], start: Start) -> tuple[list[LauncherName], bool]:
    """Give each of the tests a result, in one start if possible.

    Returns the tests that had no result at first, although the launcher ended in an ordinary way,
    and whether some tests have none.

    A start that ends early costs the test that was running, and nothing else. If the launcher
    does not report which one it was, the tests without a result run again: the first of them alone
    if others had results, otherwise each half. So the guilty test ends up in a start for itself.
    """
    waiting, in_vain = [list(tests)], 0
    given_up: set[LauncherName] = set()
    silent: dict[LauncherName, None] = {}
    early: StartEnd | None = None
    while waiting:
        some = waiting.pop(0)
        end = start(some)
        left = list(end.left)
        in_vain = 0 if end.has_results or not left else in_vain + 1
        if not left:
            continue
        silent.update(dict.fromkeys([] if end.is_broken else left))
        early = early or (end if end.is_early else None)
        if end.running:
            end.give_up([end.running])
            given_up.add(end.running)
            left.remove(end.running)
            waiting[:0] = [left] if left else []
        elif len(some) == 1 or (end.trouble and not end.is_broken):
            end.give_up(left)
            given_up.update(left)
        elif in_vain > _most_in_vain(len(tests), end):
            rest = [*left, *(test for more in waiting for test in more)]
            end.give_up(rest)
            given_up.update(rest)
            break
        elif end.has_results or len(left) == 1:
            waiting[:0] = [part for part in (left[:1], left[1:]) if part]
        else:
            middle = len(left) // 2
            waiting[:0] = [left[:middle], left[middle:]]
    if early and not given_up:  # it failed only with all of them together: no success
        early.tell_early()
    return [test for test in silent if test not in given_up], bool(given_up)


def _most_in_vain(tests: int, end: StartEnd) -> int:
    """How many starts in a row may have no result.

    After a crash, the halves become smaller until one has only the guilty test.
    """
    if end.is_broken:
        return math.ceil(math.log2(tests)) + 1
    return _FRUITLESS
