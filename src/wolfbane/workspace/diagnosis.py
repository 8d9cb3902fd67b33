"""The findings of a workspace check."""

from __future__ import annotations

from enum import StrEnum

import msgspec


class State(StrEnum):
    """The state of a checked item. ``missing``: a suite cannot run. ``wrong``: must be fixed."""

    OK = "ok"
    WARNING = "warning"
    MISSING = "missing"
    WRONG = "wrong"


class Finding(msgspec.Struct, frozen=True):
    """One checked item, and how to fix it."""

    about: str
    state: State
    message: str
    mend: str = ""
