"""The settings of suites of kind ``tap``."""

from __future__ import annotations

from typing import Self

from msgspec.structs import replace

from wolfbane.kinds.executable.settings import ExecutableSuite
from wolfbane.kinds.relocation import Relocation


class TapSuite(ExecutableSuite, frozen=True):
    """A suite of programs that print TAP. ``import_path`` has folders for Perl's modules."""

    import_path: list[str] = []

    def relocated(self, to: Relocation) -> Self:
        """The suite with its paths relative to an outer workspace."""
        return replace(super().relocated(to), import_path=to.paths(self.import_path))
