"""The settings of suites of Python code."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Self

from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.suite import Suite


@dataclass(frozen=True)
class InterpretedSuite(Suite):
    """A suite that runs in a Python interpreter.

    ``import_path`` holds folders that are put before everything else on the import path.
    """

    python: str = ""
    import_path: list[str] = field(default_factory=list)

    @property
    def modules_from(self) -> str:
        """The folder that test modules are named from, if the settings say."""
        return ""

    def relocated(self, to: Relocation) -> Self:
        """The suite as an outer workspace has to write its interpreter and folders."""
        return replace(self, python=to.program(self.python), import_path=to.paths(self.import_path))


@dataclass(frozen=True)
class PythonSuite(InterpretedSuite):
    """A suite of kind ``python``. ``top`` is the folder that modules are named from."""

    top: str = ""

    @property
    def modules_from(self) -> str:
        """The folder that test modules are named from, if the settings say."""
        return self.top

    def relocated(self, to: Relocation) -> Self:
        """The suite as an outer workspace has to write its paths."""
        return replace(super().relocated(to), top=to.path(self.top))
