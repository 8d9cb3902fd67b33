"""The exit code of a run, and the reason for it."""

from __future__ import annotations

from collections.abc import Mapping

from wolfbane.events import Quarantined
from wolfbane.model import Outcome

GOOD = (Outcome.PASSED, Outcome.FLAKY, Outcome.TODO)
Counts = Mapping[Outcome, int]


def bad_ones(counts: Counts) -> int:
    """The number of tests that fail the run."""
    return sum(count for outcome, count in counts.items() if outcome.is_bad)


def verdict(
    counts: Counts,
    set_apart: Counts,
    quarantined: Mapping[str, Quarantined],
    stop_after: int | None,
    unrun: int,
    *,
    focused: bool,
    flaky_fails: bool,
    interrupted: bool,
) -> tuple[int, str]:
    """The exit code, and the reason if the counts do not show it.

    ``set_apart`` counts quarantined tests; ``quarantined`` has their entries. ``focused``: tests
    are marked as the only ones to run, and that fails the run.
    """
    if interrupted:
        return 130, "interrupted"
    if bad := bad_ones(counts):
        return 1, f"stopped after {bad} failed tests" if unrun and stop_after else ""
    if over := [address for address, entry in quarantined.items() if entry.over]:
        return 1, f"quarantine: the end date of {over[0]} has passed"
    if focused:
        return 1, "focus: the source marks tests as the only ones to run (--no-focus)"
    if counts.get(Outcome.BLOCKED):
        return 4, "some tests were blocked, because something that they need is missing"
    if counts.get(Outcome.FLAKY) and flaky_fails:
        return 1, "at least one test is flaky (--flaky-fails)"
    if not counts and set_apart:
        return 0, "only quarantined tests were run"
    if not any(counts.get(outcome) for outcome in GOOD):
        return 3, "nothing was run: all selected tests were skipped"
    return 0, ""
