"""The settings of suites of kind ``tap``."""

from __future__ import annotations

from dataclasses import dataclass, field

from wolfbane.kinds.suite import Suite


@dataclass(frozen=True)
class TapSuite(Suite):
    """A suite of programs that print TAP.

    ``interpreters`` are by suffix: a program, or a program and its arguments. ``import_path``
    holds folders that Perl looks for modules in first.
    """

    interpreters: dict[str, str | list[str]] = field(default_factory=dict)
    import_path: list[str] = field(default_factory=list)
