"""The source of the suites of a workspace."""

from __future__ import annotations

from pathlib import Path

import msgspec

from wolfbane.workspace.checkouts import Checkout

THERE, HERE = "there", "here"
"""Whose settings suites have at a revision: those of the revision, or those of the workspace."""


class SuiteSource(msgspec.Struct, frozen=True):
    """The git revision that suites are taken from, and the workspace that asks for it.

    ``home`` and ``results`` are folders of that workspace: environments, secrets and the quarantine
    are from there, and runs are recorded there. ``settings`` says where those of the suites are
    from.
    """

    revision: str
    checkout: Checkout
    home: Path
    results: Path
    settings: str

    @property
    def caches(self) -> Path:
        """The folder for what is known of the suites at this commit."""
        return self.checkout.folder / "caches"
