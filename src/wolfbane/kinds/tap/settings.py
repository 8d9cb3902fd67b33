"""The settings of suites of kind ``tap``."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Self

from wolfbane.kinds.executable.settings import ExecutableSuite
from wolfbane.kinds.relocation import Relocation


@dataclass(frozen=True)
class TapSuite(ExecutableSuite):
    """A suite of programs that print TAP. ``import_path`` has folders for Perl's modules."""

    import_path: list[str] = field(default_factory=list)

    def relocated(self, to: Relocation) -> Self:
        """The suite as an outer workspace has to write its paths."""
        return replace(super().relocated(to), import_path=to.paths(self.import_path))
