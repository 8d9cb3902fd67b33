"""The exit code of a run, and the reason for it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from wolfbane.events.run_events import Quarantined
from wolfbane.model import LIMITS, Outcome, Result

GOOD = (Outcome.PASSED, Outcome.FLAKY, Outcome.TODO)


class Tally:
    """The outcomes of a run: tests, quarantined tests, and limits of a load test."""

    def __init__(self) -> None:
        self.tests: Counter[Outcome] = Counter()
        self.quarantined: Counter[Outcome] = Counter()
        self.limits: Counter[Outcome] = Counter()

    def add(self, result: Result, *, quarantined: bool) -> None:
        """Count a result."""
        if result.path == LIMITS:
            counts = self.limits
        else:
            counts = self.tests
        (self.quarantined if quarantined else counts)[result.outcome] += 1

    @property
    def bad(self) -> int:
        """The number of tests and limits that did not hold."""
        return sum(n for outcome, n in (self.tests + self.limits).items() if outcome.is_bad)


def by_name(counts: Mapping[Outcome, int]) -> dict[str, int]:
    """Counts as events have them."""
    return {str(outcome): count for outcome, count in counts.items()}


def verdict(
    tally: Tally,
    quarantined: Mapping[str, Quarantined],
    stop_after: int | None,
    unrun: int,
    *,
    focused: bool,
    flaky_fails: bool,
    warnings_fail: bool,
    interrupted: bool,
) -> tuple[int, str]:
    """The exit code, and the reason if the counts do not show it.

    ``quarantined`` has the entries of the quarantined tests. ``focused``: tests
    are marked as the only ones to run, and that fails the run. ``warnings_fail``: the run has
    warnings, and they fail it.
    """
    if interrupted:
        return 130, "interrupted"
    counts = tally.tests
    if bad := tally.bad:
        return 1, f"stopped after {bad} failed tests" if unrun and stop_after else ""
    if over := [address for address, entry in quarantined.items() if entry.over]:
        return 1, f"quarantine: the end date of {over[0]} has passed"
    if focused:
        return 1, "focus: the source marks tests as the only ones to run (--no-focus)"
    if counts.get(Outcome.BLOCKED):
        return 4, "some tests were blocked, because something that they need is missing"
    if counts.get(Outcome.FLAKY) and flaky_fails:
        return 1, "at least one test is flaky (--flaky-fails)"
    if warnings_fail:
        return 1, "the run has warnings (--warnings-fail)"
    if not counts and tally.quarantined:
        return 0, "only quarantined tests were run"
    if not any(counts.get(outcome) for outcome in GOOD):
        return 3, "nothing was run: all selected tests were skipped"
    return 0, ""
