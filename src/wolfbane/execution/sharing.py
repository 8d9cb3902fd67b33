"""Divides a run into shares, one for each machine."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import msgspec

from wolfbane.basis.files import read_regular
from wolfbane.errors import NothingChosen
from wolfbane.events.run_events import ShareFacts
from wolfbane.inventory import Inventory
from wolfbane.inventory.affected import sources_of
from wolfbane.model import Test
from wolfbane.planning.shares import Share, cut, digest_of, units_of
from wolfbane.setup.preparation import Prepared


class Weights(msgspec.Struct, frozen=True):
    """The weights for dividing a plan: a number for each address, and their source."""

    by_address: Mapping[str, float]
    source: str


Weigh = Callable[[Sequence[Test]], Weights]


def by_file_size(root: Path, tests: Sequence[Test]) -> Weights:
    """The bytes of each file, divided among its tests."""
    counts: dict[tuple[str, str, str], int] = {}
    for test in tests:
        key = test.path, test.browser, test.target
        counts[key] = counts.get(key, 0) + 1
    sizes = {path: _size(root / path) for path in {test.path for test in tests}}
    return Weights(
        {t.address: sizes[t.path] / counts[t.path, t.browser, t.target] for t in tests},
        "file sizes",
    )


def take_share(
    share: Share, prepared: Prepared, inventory: Inventory, weights: Weights
) -> ShareFacts:
    """Keep only the tests of a share in the preparation.

    Raises NothingChosen if the share is empty.

    Files that cannot be loaded, and blocked tests, are also in exactly one share.
    """
    tests, broken = prepared.chosen, prepared.broken
    apart = {result.address for result in broken}
    root, files = inventory.workspace.root, inventory.files
    units = units_of(tests, files, weights.by_address, apart=apart)
    mine = cut(units, share.of)[share.number - 1]
    addresses = {*apart, *(test.address for test in tests)}
    paths = {*(test.path for test in tests), *(result.path for result in broken)}
    facts = ShareFacts(
        number=share.number,
        of=share.of,
        whole=len(addresses),
        plan=digest_of(addresses),
        sources={
            path: _content(root / path) for path in sources_of(inventory.workspace, files, paths)
        },
        figures=digest_of(f"{unit.key} {unit.weight:.6g}" for unit in units),
        cut_by=weights.source,
    )
    prepared.chosen = [test for test in tests if test.address in mine]
    prepared.broken = [result for result in broken if result.address in mine]
    if not mine:
        raise NothingChosen(
            f"share {share.number} of {share.of} is empty: "
            f"the plan can be divided into {len(units)} parts only"
        )
    return facts


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _content(path: Path) -> str:
    try:
        return hashlib.blake2b(read_regular(path)).hexdigest()[:16]
    except OSError:
        return ""
