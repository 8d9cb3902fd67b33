"""The settings of suites of kind ``doctest``."""

from __future__ import annotations

from dataclasses import dataclass, field

from wolfbane.kinds.python.settings import PythonSuite


@dataclass(frozen=True)
class DoctestSuite(PythonSuite):
    """A suite of examples. ``options`` are names of the doctest module's option flags."""

    options: list[str] = field(default_factory=list)
