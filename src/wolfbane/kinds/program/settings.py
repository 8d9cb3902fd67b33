"""The settings of suites of kind ``program``."""

from __future__ import annotations

from dataclasses import dataclass, field

from wolfbane.kinds.executable.settings import ExecutableSuite


@dataclass(frozen=True)
class ProgramSuite(ExecutableSuite):
    """A suite of programs. ``arguments`` are given to each of them."""

    arguments: list[str] = field(default_factory=list)
