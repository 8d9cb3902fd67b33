"""The settings of suites of kind ``program``."""

from __future__ import annotations

from wolfbane.kinds.executable.settings import ExecutableSuite


class ProgramSuite(ExecutableSuite, frozen=True):
    """A suite of programs, each of which is a test."""
