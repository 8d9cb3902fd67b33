"""Queries about tests: outcomes over time, pass rates and durations."""

from __future__ import annotations

import statistics
from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

import msgspec

from wolfbane.model import Outcome
from wolfbane.results.history.opening import open_history
from wolfbane.results.newest import Newest
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:  # a database is not at hand where only durations are compared
    from wolfbane.results.history.entries import RunEntry, TestEnd
    from wolfbane.results.history.store import Store


LEAST_SECONDS = 0.1
"""Minimum difference for a test to count as slower."""
_NOT_RUN = frozenset({str(Outcome.SKIPPED), str(Outcome.TODO), str(Outcome.BLOCKED)})


class TestHistory(msgspec.Struct, frozen=True, dict=True):
    """One test in a series of runs, the oldest first. None if the test is not in a run.

    ``workspace`` is the title of its workspace, if the runs are from several.
    """

    address: str
    ended: tuple[TestEnd | None, ...]
    workspace: str = ""

    @cached_property
    def counted(self) -> list[TestEnd]:
        """The runs in which it was not skipped, blocked or unfinished."""
        return [each for each in self.ended if each and each.outcome not in _NOT_RUN]

    @property
    def passed(self) -> int:
        """How often it passed on the first attempt."""
        return sum(each.outcome == Outcome.PASSED for each in self.counted)

    @property
    def flake_rate(self) -> float:
        """The share of flaky runs among the runs in which it ran."""
        counted = self.counted
        flaky = sum(each.outcome == Outcome.FLAKY for each in counted)
        if counted:
            return flaky / len(counted)
        return 0.0

    @property
    def median(self) -> float:
        """Its median duration in seconds."""
        return statistics.median([each.seconds for each in self.counted] or [0.0])

    @property
    def stable(self) -> int:
        """How many of its newest runs in a row passed on the first attempt."""
        row = 0
        for each in reversed(self.counted):
            if each.outcome != Outcome.PASSED:
                break
            row += 1
        return row


def in_each_environment(
    store: Store, places: Sequence[str], entries: Sequence[RunEntry]
) -> list[TestHistory]:
    """Tests in these runs (the newest first), once for each environment.

    For runs of several workspaces, also once for each workspace. A test without a run appears once.
    """
    variants = store.variants(places)
    recorded = histories(store, [a for addresses in variants.values() for a in addresses], entries)
    ran = {
        history.address: _in_each_workspace(history, entries)
        for history in recorded
        if any(history.ended)
    }
    never = tuple(None for _ in entries)
    return [
        history
        for address in places
        for history in [each for a in variants[address] for each in ran.get(a, ())]
        or [TestHistory(address, never)]
    ]


def _in_each_workspace(history: TestHistory, entries: Sequence[RunEntry]) -> list[TestHistory]:
    """A test, once for each workspace whose runs it was in."""
    oldest_first = list(reversed(entries))
    owners = {entry.workspace: entry.workspace_name for entry in oldest_first}
    if len(owners) < 2:
        return [history]
    split = [
        TestHistory(
            history.address,
            tuple(
                ended if entry.workspace == owner else None
                for entry, ended in zip(oldest_first, history.ended, strict=True)
            ),
            title,
        )
        for owner, title in owners.items()
    ]
    return [each for each in split if any(each.ended)]


def histories(
    store: Store, addresses: Iterable[str], entries: Sequence[RunEntry]
) -> list[TestHistory]:
    """Tests in these runs (the newest first), by addresses with their environments."""
    wanted = list(addresses)
    recorded = store.history(wanted, entries)
    oldest_first = [entry.id for entry in reversed(entries)]
    return [
        TestHistory(address, tuple(map(dict(recorded[address]).get, oldest_first)))
        for address in wanted
    ]


def stands_out(seconds: float, before: Sequence[float]) -> bool:
    """Whether a duration is significantly longer.

    By the modified z-score of Iglewicz and Hoaglin (1993), 0.6745 (x - median) / MAD > 3.5, against
    at least five earlier ones; and by at least a tenth of a second and a quarter.
    """
    if len(before) < _LEAST:
        return False
    middle = statistics.median(before)
    spread = statistics.median(abs(value - middle) for value in before)
    more = seconds - middle
    if more < LEAST_SECONDS or more < middle * _SHARE:
        return False
    return spread == 0 or 0.6745 * more / spread > _SCORE


_LEAST, _SCORE, _SHARE = 5, 3.5, 0.25


LOOKED_BACK = 50
_BAD = frozenset(str(outcome) for outcome in Outcome if outcome.is_bad)


def slower_tests(workspace: Workspace) -> dict[str, str]:
    """By address, a text about how much slower. Raises InputError if the history cannot be read."""
    known = Newest(workspace.caches).known({})
    store, _ = open_history(workspace)
    slower = {}
    longer = [variant for variant, seconds in known.times.items() if seconds >= LEAST_SECONDS]
    for history in histories(store, longer, store.runs(LOOKED_BACK)):
        if not history.counted:
            continue
        *before, newest = history.counted
        earlier = [each.seconds for each in before if each.outcome not in _BAD]
        if stands_out(newest.seconds, earlier):
            usual = statistics.median(earlier)
            message = f"it took {newest.seconds:.2f} s; usual is {usual:.2f} s"
            slower[history.address] = slower[newest.place] = message
    return slower
