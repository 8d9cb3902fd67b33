"""The source of the suites of a workspace."""

from __future__ import annotations

from pathlib import Path

import msgspec

from wolfbane.workspace.checkouts import Checkout

THERE, HERE = "there", "here"
"""The source of the settings of suites at a revision: the revision, or the workspace."""


class SuiteSource(msgspec.Struct, frozen=True):
    """The git revision of the suites, and the workspace that uses it.

    ``home`` and ``results`` are folders of that workspace: environments, secrets and the quarantine
    come from there, and runs are recorded there. ``settings`` is the source of the suites'
    settings.
    """

    revision: str
    checkout: Checkout
    home: Path
    results: Path
    settings: str

    @property
    def caches(self) -> Path:
        """The folder for data about the suites at this commit."""
        return self.checkout.folder / "caches"
