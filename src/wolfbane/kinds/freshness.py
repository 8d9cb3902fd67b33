"""How copies of documents are brought up to date."""

from __future__ import annotations

from enum import Enum


class Freshness(Enum):
    """How copies of documents are brought up to date."""

    REFRESH = "refresh"
    """Fetch every document again."""
    COMPARE = "compare"
    """Fetch what is missing, and warn where a copy is out of date."""
    OFFLINE = "offline"
    """Use the copies, and fetch nothing."""
