"""Additional findings of a run, besides its results."""

from __future__ import annotations

from collections import Counter

import msgspec

from wolfbane.events.run_events import Exercised
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
