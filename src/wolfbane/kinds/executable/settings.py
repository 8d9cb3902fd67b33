"""The settings of suites whose files are executed."""

from __future__ import annotations

from typing import Self

from msgspec.structs import replace

from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.suite import Suite


class ExecutableSuite(Suite, frozen=True):
    """``interpreters`` are by suffix: a program, or a program and its arguments.

    ``arguments`` are given to each file that is started.
    """

    interpreters: dict[str, str | list[str]] = {}
    arguments: list[str] = []

    def commands(self) -> dict[str, list[str]]:
        """The interpreters by suffix, each as a list of arguments."""
        given = self.interpreters.items()
        return {suffix: [one] if isinstance(one, str) else list(one) for suffix, one in given}

    def relocated(self, to: Relocation) -> Self:
        """The suite with its interpreters relative to an outer workspace."""
        moved: dict[str, str | list[str]] = {
            suffix: [to.program(program), *arguments]
            for suffix, (program, *arguments) in self.commands().items()
        }
        return replace(self, interpreters=moved)
