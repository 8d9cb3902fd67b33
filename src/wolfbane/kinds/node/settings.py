"""The settings of suites of kind ``node``."""

from __future__ import annotations

from dataclasses import dataclass, field

from wolfbane.kinds.suite import Suite


@dataclass(frozen=True)
class NodeSuite(Suite):
    """A suite of JavaScript files. ``options`` go to the runtime.

    With ``bare_words``, files may use ``describe`` and ``it`` without importing them.
    """

    node: str = ""
    options: list[str] = field(default_factory=list)
    bare_words: bool = False
