"""Additional findings of a run, besides its results, such as its API coverage."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from wolfbane.events.run_events import Covered, Exercised
from wolfbane.inventory import Inventory
from wolfbane.kinds.protocols import FetchesDocuments
from wolfbane.kinds.registry import find_kind
from wolfbane.model import Test


class ProcessDamage(msgspec.Struct, frozen=True):
    """The changes of a test to its process. ``stays``: the following tests of its file see them."""

    address: str
    left: tuple[str, ...]
    stays: bool = False


class Findings(msgspec.Struct):
    """``met`` and ``missed``, by path: tests that were not known before, and expected tests that
    did not appear.

    ``covered`` counts calls of API operations. ``damage`` lists the changes that tests made to
    their process.
    """

    met: dict[str, dict[str, Test]] = msgspec.field(default_factory=dict)
    missed: dict[str, set[str]] = msgspec.field(default_factory=dict)
    covered: Counter[Exercised] = msgspec.field(default_factory=Counter)
    damage: list[ProcessDamage] = msgspec.field(default_factory=list)


def coverage(inventory: Inventory, exercised: Mapping[Exercised, int]) -> Iterator[Covered]:
    """An event for each description with at least one called operation."""
    counts: dict[str, Counter[tuple[str, str, str]]] = {}
    for key, count in exercised.items():
        by_answer = counts.setdefault(key.source, Counter())
        by_answer[key.operation, key.status, key.media] += count
    if counts:
        known = _operations(inventory)
    else:
        known = {}
    for source, by_answer in counts.items():
        called = {name for name, _, _ in by_answer}
        missing = [name for name in known.get(source, ()) if name not in called]
        rows = [(*answer, count) for answer, count in sorted(by_answer.items())]
        yield Covered(source, tuple(rows), tuple(missing))


def _operations(inventory: Inventory) -> dict[str, Sequence[str]]:
    """The names of all operations, by the file of their description."""
    operations: dict[str, Sequence[str]] = {}
    for file in inventory.files.values():
        if not file.error:
            suite = inventory.workspace.suite(file.suite)
            kind = find_kind(suite.kind)
            if isinstance(kind, FetchesDocuments):
                operations.update(kind.operations(inventory.workspace.root, suite, file.path))
    return operations
