"""The settings of suites of kind ``scenario``."""

from __future__ import annotations

from typing import Self

from msgspec.structs import replace

from wolfbane.kinds.python.settings import InterpretedSuite
from wolfbane.kinds.relocation import Relocation


class ScenarioSuite(InterpretedSuite, frozen=True):
    """A suite of feature files. ``steps`` are the folders with its step functions."""

    steps: list[str] = []

    def relocated(self, to: Relocation) -> Self:
        """The suite with its paths relative to an outer workspace."""
        return replace(super().relocated(to), steps=to.paths(self.steps))
