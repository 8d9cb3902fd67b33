"""The settings of suites of kind ``bridge``."""

from __future__ import annotations

from dataclasses import dataclass

from wolfbane.kinds.suite import Suite


@dataclass(frozen=True)
class BridgeSuite(Suite):
    """A suite whose launcher a bridge file describes; ``bridge`` is its path."""

    bridge: str = ""
