"""Finds tests whose newest duration is significantly longer than usual."""

from __future__ import annotations

import statistics

from wolfbane.model import Outcome
from wolfbane.results.history.opening import open_history
from wolfbane.results.history.queries import LEAST_SECONDS, histories, stands_out
from wolfbane.results.newest import Newest
from wolfbane.workspace.settings import Workspace

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
            words = f"it took {newest.seconds:.2f} s; usual is {usual:.2f} s"
            slower[history.address] = slower[newest.place] = words
    return slower
