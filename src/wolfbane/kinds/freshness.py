"""How copies of documents are updated."""

from __future__ import annotations

from enum import Enum


class Freshness(Enum):
    """How copies of documents are updated."""

    REFRESH = "refresh"
    """Fetch every document again."""
    COMPARE = "compare"
    """Fetch what is missing, and warn where a copy is out of date."""
    OFFLINE = "offline"
    """Use the copies, and fetch nothing."""
