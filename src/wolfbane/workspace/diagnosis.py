"""What a check of a workspace finds."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class State(StrEnum):
    """How a thing was found. ``missing`` keeps a suite from running, ``wrong`` has to be mended."""

    OK = "ok"
    WARNING = "warning"
    MISSING = "missing"
    WRONG = "wrong"


@dataclass(frozen=True)
class Finding:
    """One thing that was looked at, and the way to mend it."""

    about: str
    state: State
    message: str
    mend: str = ""
