"""The settings of suites of Python code."""

from __future__ import annotations

from typing import Literal, Self

from msgspec.structs import replace

from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.suite import Suite


class InterpretedSuite(Suite, frozen=True):
    """A suite that runs in a Python interpreter.

    ``import_path`` contains folders that are first on the import path. ``python_options`` are for
    the interpreter.
    """

    python: str = ""
    python_options: list[str] = []
    import_path: list[str] = []

    @property
    def modules_from(self) -> str:
        """The top folder for the names of test modules, if the settings define it."""
        return ""

    @property
    def divides_files(self) -> bool:
        """Whether the tests of a file may run in several processes."""
        return False

    def relocated(self, to: Relocation) -> Self:
        """The suite with its interpreter and folders relative to an outer workspace."""
        return replace(self, python=to.program(self.python), import_path=to.paths(self.import_path))


class PythonSuite(InterpretedSuite, frozen=True):
    """A suite of kind ``python``. ``top`` is the folder at which module names start.

    ``process`` is what shares a process; with ``divide_files``, the classes of one file may run in
    several.
    """

    top: str = ""
    process: Literal["shared", "file", "suite"] = "shared"
    divide_files: bool = False

    @property
    def modules_from(self) -> str:
        """The top folder for the names of test modules, if the settings define it."""
        return self.top

    @property
    def divides_files(self) -> bool:
        """Whether the tests of a file may run in several processes."""
        return self.divide_files

    def relocated(self, to: Relocation) -> Self:
        """The suite with its paths relative to an outer workspace."""
        return replace(super().relocated(to), top=to.path(self.top))
