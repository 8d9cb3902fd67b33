"""Two runs, test by test: what broke, what was mended, what is new, gone or slower."""

from __future__ import annotations

import statistics
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from wolfbane.model import Outcome
from wolfbane.results.history import LEAST_SECONDS, histories, stands_out
from wolfbane.results.store import Ended, RunEntry, Store

LOOKED_BACK = 50
_BAD = frozenset(str(outcome) for outcome in Outcome if outcome.is_bad)


@dataclass(frozen=True)
class Change:
    """One test in both runs; None where it had no part in one."""

    address: str
    before: Ended | None
    after: Ended | None


@dataclass
class Comparison:
    """Two runs, the older one first. Lists are in the order of addresses.

    ``slower`` has, besides, the median of the runs before.
    """

    before: RunEntry
    after: RunEntry
    newly_failing: list[Change] = field(default_factory=list)
    mended: list[Change] = field(default_factory=list)
    still_failing: list[Change] = field(default_factory=list)
    newly_flaky: list[Change] = field(default_factory=list)
    new: list[Change] = field(default_factory=list)
    gone: list[Change] = field(default_factory=list)
    slower: list[tuple[Change, float]] = field(default_factory=list)
    counts: dict[str, tuple[int, int]] = field(default_factory=dict)

    @property
    def regressions(self) -> list[Change]:
        """What fails and did not: broken since, or new and failing."""
        return [*self.newly_failing, *(change for change in self.new if _is_bad(change.after))]

    @property
    def chose_alike(self) -> bool:
        """Whether both runs asked for the same tests; else new and gone mean little."""
        return self.before.expression == self.after.expression


def compare(
    before: tuple[RunEntry, Mapping[str, Ended]],
    after: tuple[RunEntry, Mapping[str, Ended]],
    earlier: Mapping[str, list[float]],
) -> Comparison:
    """Compare two runs; ``earlier`` are durations of tests in runs before the newer one."""
    (first, old), (second, now) = before, after
    found = Comparison(first, second)
    for address in sorted({*old, *now}):
        change = Change(address, old.get(address), now.get(address))
        _sort_in(found, change)
        seconds = earlier.get(address, [])
        if change.after and stands_out(change.after.seconds, seconds):
            found.slower.append((change, statistics.median(seconds)))
    counted = [Counter(e.outcome for e in side.values()) for side in (old, now)]
    found.counts = {
        str(outcome): (counted[0][outcome], counted[1][outcome])
        for outcome in Outcome
        if counted[0][outcome] or counted[1][outcome]
    }
    return found


def _sort_in(found: Comparison, change: Change) -> None:
    if change.before is None:
        found.new.append(change)
    elif change.after is None:
        found.gone.append(change)
    elif _is_bad(change.after):
        (found.still_failing if _is_bad(change.before) else found.newly_failing).append(change)
    elif _is_bad(change.before) and change.after.outcome == Outcome.PASSED:
        found.mended.append(change)
    elif change.after.outcome == Outcome.FLAKY and change.before.outcome != Outcome.FLAKY:
        found.newly_flaky.append(change)


def _is_bad(ended: Ended | None) -> bool:
    return ended is not None and ended.outcome in _BAD


def earlier_seconds(
    store: Store, ended: Iterable[Ended], before: RunEntry
) -> dict[str, list[float]]:
    """How long tests took in the runs that began before one, where they passed.

    Those that took too little in it to be called slower are not asked for.
    """
    addresses = [each.address for each in ended if each.seconds >= LEAST_SECONDS]
    entries = [e for e in store.runs(10 * LOOKED_BACK) if e.began < before.began][:LOOKED_BACK]
    return {
        history.address: [e.seconds for e in history.counted if e.outcome not in _BAD]
        for history in histories(store, addresses, entries)
    }
