"""Finds the changes since the previous run with the same selection and environment."""

from __future__ import annotations

from wolfbane.results.compare import Comparison, compare
from wolfbane.results.history.opening import open_history
from wolfbane.results.history.report_import import ORIGIN
from wolfbane.results.run_lookup import NamedRun
from wolfbane.workspace.settings import Workspace

_LOOKED_BACK = 500


def since_the_one_before(
    workspace: Workspace, run: str, quarantined: frozenset[str]
) -> Comparison | None:
    """A run compared with the previous one; None if it is the first. Raises InputError.

    ``quarantined`` are the addresses, with environments, of tests that cannot fail it.
    """
    store, _ = open_history(workspace)
    entries = [e for e in store.runs(_LOOKED_BACK) if not e.origin.startswith(ORIGIN)]
    now = next((entry for entry in entries if entry.name == run), None)
    if now is None:
        return None
    older = [e for e in entries if e.began <= now.began and e.id < now.id]
    before = next((e for e in older if e.wanted == now.wanted), None)
    if before is None:
        return None
    runs = [
        NamedRun(e, {each.address: each for each in store.results_of(e.id)}) for e in (before, now)
    ]
    return compare(runs[0], runs[1], {}, quarantined=quarantined)


def is_news(comparison: Comparison | None, *, failed: bool) -> bool:
    """Whether the result of a run differs from the previous one."""
    if comparison is None:
        return failed
    return bool(
        comparison.regressions
        or comparison.mended
        or comparison.newly_flaky
        or comparison.before.exit_code != comparison.after.exit_code
    )
