"""The weights for dividing a plan into shares: recorded durations that are the same on every
machine.
"""

from __future__ import annotations

import statistics
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

from wolfbane.environments import Environment
from wolfbane.errors import InputError
from wolfbane.execution.sharing import Weights, by_file_size
from wolfbane.inventory import Inventory
from wolfbane.model import Test, at
from wolfbane.planning.shares import Share, cut, units_of
from wolfbane.selection import Choice, may_match
from wolfbane.workspace.git import ask_git
from wolfbane.workspace.settings import Workspace

_LOOKED_BACK = 20


def weigh(workspace: Workspace, environments: Mapping[str, str], tests: Sequence[Test]) -> Weights:
    """Median durations of earlier runs if the history has them; otherwise, file sizes.

    Jobs of one commit start at different times, and each adds runs to a shared history. So only
    complete runs that started before the commit was created are used: they are the same for all
    jobs. ``environments`` are the names, by label.
    """
    seconds = _recorded(workspace, environments, tests)
    if not seconds:
        return by_file_size(workspace.root, tests)
    middle = statistics.median(seconds.values())
    return Weights(
        {test.address: seconds.get(test.address, middle) for test in tests}, "recorded durations"
    )


def addresses_of_share(
    share: Share,
    inventory: Inventory,
    choice: Choice,
    environment: Environment,
    tests: Sequence[Test],
) -> set[str]:
    """The addresses of the tests that a share of a run would contain, after they were collected."""
    apart = {
        file.path
        for file in inventory.files.values()
        if file.error and may_match(choice.expression, file) is not False
    }
    tests = [test for test in tests if test.path not in apart]
    weights = weigh(inventory.workspace, {environment.label: environment.name}, tests)
    units = units_of(tests, inventory.files, weights.by_address, apart=apart)
    return set(cut(units, share.of)[share.number - 1])


def _recorded(
    workspace: Workspace, environments: Mapping[str, str], tests: Sequence[Test]
) -> dict[str, float]:
    from wolfbane.results.history.opening import open_history
    from wolfbane.results.history.queries import histories

    made = _commit_time(workspace)
    if made is None:
        return {}
    try:
        store, _ = open_history(workspace)
        entries = [
            entry
            for entry in store.runs(1000)
            if entry.origin == "run" and datetime.fromisoformat(entry.began) < made
        ][:_LOOKED_BACK]
        variants = {
            test.address
            if test.target
            else at(test.address, environments.get("", "")): test.address
            for test in tests
        }
        recorded = histories(store, variants, entries)
    except InputError:
        return {}
    return {variants[each.address]: each.median for each in recorded if each.counted}


def _commit_time(workspace: Workspace) -> datetime | None:
    """The time of the suites' commit; None outside a repository."""
    shown = ask_git(workspace.root, "show", "--no-patch", "--format=%ct", "HEAD").output.strip()
    if shown.isdecimal():
        return datetime.fromtimestamp(int(shown), UTC)
    return None
