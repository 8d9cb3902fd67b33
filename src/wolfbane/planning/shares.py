"""Divides a plan into disjoint shares, one per job, in the same way on every machine.

Pure functions.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Mapping, Sequence

import msgspec

from wolfbane.model import Test, TestFile
from wolfbane.planning.plan import test_groups

MOST = 1000
"""Maximum number of shares of a plan."""


class Share(msgspec.Struct, frozen=True):
    """One of ``of`` shares, counted from 1."""

    number: int
    of: int

    def __str__(self) -> str:
        return f"{self.number}/{self.of}"


def read_share(text: str) -> Share:
    """A share as typed: ``2/5``. Raises ValueError."""
    whole = re.fullmatch(r"\s*(\d+)\s*/\s*(\d+)\s*", text)
    if whole is None:
        raise ValueError(f"'{text}' is not a share; for example, 2/5 is the second of five shares")
    number, of = int(whole[1]), int(whole[2])
    if not 1 <= of <= MOST:
        raise ValueError(f"the number of shares must be between 1 and {MOST}, not {of}")
    if not 1 <= number <= of:
        raise ValueError(f"there is no share {number} of {of}; shares are numbered from 1 to {of}")
    return Share(number, of)


class Unit(msgspec.Struct, frozen=True):
    """Tests that must stay in the same share, by address.

    ``weight`` is their approximate duration.
    """

    key: str
    addresses: tuple[str, ...]
    weight: float


def units_of(
    tests: Sequence[Test],
    files: Mapping[str, TestFile],
    weights: Mapping[str, float],
    apart: Iterable[str] = (),
) -> list[Unit]:
    """The tests as units: classes, and tests that need each other; whole files that cannot be
    divided.

    ``weights`` are by address. ``apart`` are addresses of results without a test in the plan, such
    as files that cannot be loaded: each is also a unit.
    """
    by_file: dict[tuple[str, str, str], list[Test]] = {}
    for test in tests:
        by_file.setdefault((test.target, test.path, test.browser), []).append(test)
    units = []
    for mine in by_file.values():
        if files[mine[0].path].divisible:
            groups = test_groups(mine)
        else:
            groups = [mine]
        for group in groups:
            addresses = tuple(sorted(test.address for test in group))
            weight = sum(weights.get(address, 0.0) for address in addresses)
            units.append(Unit(addresses[0], addresses, weight))
    units += [Unit(address, (address,), weights.get(address, 0.0)) for address in set(apart)]
    return units


def cut(units: Sequence[Unit], of: int) -> list[frozenset[str]]:
    """The addresses of each share: the heaviest unit goes to the lightest share, and so on.

    The longest share is at most 4/3 of the optimum (R. L. Graham, Bounds on Multiprocessing Timing
    Anomalies, 1969). The result depends only on the units.
    """
    loads = [(0.0, 0, number) for number in range(of)]
    shares: list[list[str]] = [[] for _ in range(of)]
    for unit in sorted(units, key=lambda unit: (-unit.weight, unit.key)):
        load, count, number = loads[0]
        shares[number] += unit.addresses
        loads[0] = (round(load + unit.weight, 9), count + len(unit.addresses), number)
        loads.sort()
    return [frozenset(share) for share in shares]


def digest_of(lines: Iterable[str]) -> str:
    """A short hash of lines, independent of their order."""
    return hashlib.blake2b("\0".join(sorted(lines)).encode("utf-8", "replace")).hexdigest()[:16]
