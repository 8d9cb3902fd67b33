"""The settings of suites of kind ``doctest``."""

from __future__ import annotations

from wolfbane.kinds.python.settings import PythonSuite


class DoctestSuite(PythonSuite, frozen=True):
    """A suite of examples. ``options`` are names of the doctest module's option flags."""

    options: list[str] = []
