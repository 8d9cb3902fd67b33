"""How copies of documents are updated."""

from __future__ import annotations

from enum import Enum


class Freshness(Enum):
    """How copies of documents are updated."""

    REFRESH = "refresh"
    """Download every document again."""
    COMPARE = "compare"
    """Download missing documents, and warn if a copy is outdated."""
    OFFLINE = "offline"
    """Use the copies, and download nothing."""
