"""The location of the team's history. This module imports quickly, because every run uses it."""

from __future__ import annotations

import os

from wolfbane.workspace.settings import Workspace

VARIABLE = "WOLFBANE_HISTORY"
"""An environment variable that may hold the URL, for it may hold a password."""


def history_url(workspace: Workspace) -> str:
    """The URL of the team's history; empty where the workspace has one of its own."""
    return os.environ.get(VARIABLE, "") or workspace.settings.workspace.history
