"""Compares two runs test by test: newly failing, fixed, new, removed and slower tests."""

from __future__ import annotations

import statistics
from collections import Counter
from collections.abc import Iterable, Mapping

import msgspec

from wolfbane.model import Outcome
from wolfbane.results.history.entries import RunEntry, TestEnd
from wolfbane.results.history.entry_addresses import as_sets
from wolfbane.results.history.queries import LEAST_SECONDS, histories, stands_out
from wolfbane.results.history.store import Store
from wolfbane.results.run_lookup import NamedRun

LOOKED_BACK = 50
QUARANTINED = "quarantined"
_BAD = frozenset(str(outcome) for outcome in Outcome if outcome.is_bad)


class Change(msgspec.Struct, frozen=True):
    """One test in both runs. None if the test is not in one of them."""

    address: str
    before: TestEnd | None
    after: TestEnd | None


class Comparison(msgspec.Struct):
    """Two runs, the older one first. Lists are in the order of addresses.

    ``slower`` also has the median of the earlier runs. ``quarantined`` tests are in the lists, but
    never regressions. ``left`` are the environments that only one of the runs has, so their tests
    are not compared.
    """

    before: RunEntry
    after: RunEntry
    newly_failing: list[Change] = msgspec.field(default_factory=list)
    mended: list[Change] = msgspec.field(default_factory=list)
    still_failing: list[Change] = msgspec.field(default_factory=list)
    newly_flaky: list[Change] = msgspec.field(default_factory=list)
    new: list[Change] = msgspec.field(default_factory=list)
    gone: list[Change] = msgspec.field(default_factory=list)
    slower: list[tuple[Change, float]] = msgspec.field(default_factory=list)
    quarantined: frozenset[str] = frozenset()
    left: tuple[str, ...] = ()
    counts: dict[str, tuple[int, int]] = msgspec.field(default_factory=dict)

    @property
    def regressions(self) -> list[Change]:
        """Regressions: tests that fail but did not fail before, and new failing tests; quarantined
        tests do not count.
        """
        broken = [*self.newly_failing, *(change for change in self.new if _is_bad(change.after))]
        return [change for change in broken if change.address not in self.quarantined]

    @property
    def chose_alike(self) -> bool:
        """Whether both runs have the same selection; otherwise, new and removed mean little."""
        return self.before.expression == self.after.expression


def compare(
    before: NamedRun,
    after: NamedRun,
    earlier: Mapping[str, list[float]],
    quarantined: frozenset[str] = frozenset(),
) -> Comparison:
    """Compare two runs; ``earlier`` are durations of tests in runs before the newer one.

    Tests are compared in the same environment. If two runs with one environment each have different
    ones, their tests are compared with each other.
    """
    old, now, left = _side_by_side(before, after)
    old, now = as_sets(old, now)
    quarantined |= {address for address, ended in now.items() if ended.quarantined}
    comparison = Comparison(before.entry, after.entry, quarantined=quarantined, left=left)
    for address in sorted({*old, *now}):
        change = Change(address, old.get(address), now.get(address))
        _sort_in(comparison, change)
        seconds = earlier.get(address, [])
        if change.after and stands_out(change.after.seconds, seconds):
            comparison.slower.append((change, statistics.median(seconds)))
    counted = [
        Counter(
            QUARANTINED if e.quarantined or a in quarantined else e.outcome for a, e in side.items()
        )
        for side in (old, now)
    ]
    comparison.counts = {
        name: (counted[0][name], counted[1][name])
        for name in (*map(str, Outcome), QUARANTINED)
        if counted[0][name] or counted[1][name]
    }
    return comparison


def _side_by_side(
    before: NamedRun, after: NamedRun
) -> tuple[Mapping[str, TestEnd], Mapping[str, TestEnd], tuple[str, ...]]:
    """The tests of both runs that can be compared, by address, and the environments left out."""
    shared = before.environments & after.environments
    if not shared:
        if len(before.environments) == len(after.environments) == 1:
            sides = [{e.place: e for e in run.ended.values()} for run in (before, after)]
            return sides[0], sides[1], ()
        return before.ended, after.ended, ()
    left = sorted((before.environments | after.environments) - shared)
    kept = [
        {a: e for a, e in run.ended.items() if e.environment in shared} for run in (before, after)
    ]
    return kept[0], kept[1], tuple(left)


def _sort_in(comparison: Comparison, change: Change) -> None:
    if change.before is None:
        comparison.new.append(change)
    elif change.after is None:
        comparison.gone.append(change)
    elif _is_bad(change.after):
        (comparison.still_failing if _is_bad(change.before) else comparison.newly_failing).append(
            change
        )
    elif _is_bad(change.before) and change.after.outcome == Outcome.PASSED:
        comparison.mended.append(change)
    elif change.after.outcome == Outcome.FLAKY and change.before.outcome != Outcome.FLAKY:
        comparison.newly_flaky.append(change)


def _is_bad(ended: TestEnd | None) -> bool:
    return ended is not None and ended.outcome in _BAD


def earlier_seconds(
    store: Store, ended: Iterable[TestEnd], before: RunEntry
) -> dict[str, list[float]]:
    """The durations of passed tests in the runs that started before this run.

    Tests that are too short to count as slower are not queried.
    """
    addresses = [each.address for each in ended if each.seconds >= LEAST_SECONDS]
    entries = [e for e in store.runs(10 * LOOKED_BACK) if e.began < before.began][:LOOKED_BACK]
    return {
        history.address: [e.seconds for e in history.counted if e.outcome not in _BAD]
        for history in histories(store, addresses, entries)
    }
