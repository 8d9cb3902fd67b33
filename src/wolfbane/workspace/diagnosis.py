"""What a check of a workspace finds."""

from __future__ import annotations

from enum import StrEnum

import msgspec


class State(StrEnum):
    """How a thing was found. ``missing`` keeps a suite from running, ``wrong`` has to be fixed."""

    OK = "ok"
    WARNING = "warning"
    MISSING = "missing"
    WRONG = "wrong"


class Finding(msgspec.Struct, frozen=True):
    """One thing that was looked at, and the way to mend it."""

    about: str
    state: State
    message: str
    mend: str = ""
