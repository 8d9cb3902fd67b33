"""The settings of suites of kind ``bridge``."""

from __future__ import annotations

from wolfbane.kinds.suite import Suite


class BridgeSuite(Suite, frozen=True):
    """A suite whose launcher a bridge file describes; ``bridge`` is its path.

    ``options`` replace ``{extra}`` in the launcher's command.
    """

    bridge: str = ""
    options: list[str] = []
