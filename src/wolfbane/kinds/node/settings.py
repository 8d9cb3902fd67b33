"""The settings of suites of kind ``node``."""

from __future__ import annotations

from wolfbane.kinds.suite import Suite


class NodeSuite(Suite, frozen=True):
    """A suite of JavaScript files. ``options`` go to the runtime.

    With ``bare_words``, files may use ``describe`` and ``it`` without importing them.
    """

    node: str = ""
    options: list[str] = []
    bare_words: bool = False
