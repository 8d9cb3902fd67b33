"""The settings of suites of kind ``scenario``."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Self

from wolfbane.kinds.python.settings import InterpretedSuite
from wolfbane.kinds.relocation import Relocation


@dataclass(frozen=True)
class ScenarioSuite(InterpretedSuite):
    """A suite of feature files. ``steps`` are the folders with its step functions."""

    steps: list[str] = field(default_factory=list)

    def relocated(self, to: Relocation) -> Self:
        """The suite as an outer workspace has to write its paths."""
        return replace(super().relocated(to), steps=to.paths(self.steps))
