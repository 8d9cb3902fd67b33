"""The location of the team's history. This module imports quickly, because every run uses it."""

from __future__ import annotations

import os

from wolfbane.workspace.settings import Workspace

VARIABLE = "WOLFBANE_HISTORY"
"""An environment variable for the URL, because the URL may contain a password."""


def history_url(workspace: Workspace) -> str:
    """The URL of the team's history; empty if the workspace has its own."""
    return os.environ.get(VARIABLE, "") or workspace.settings.workspace.history
