"""Detects commands that fail repeatedly, because a suite is waiting for something."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any

import msgspec

from wolfbane.browsers.endpoints import named

MISSING = "no such element"
_MOVES = named(
    "Navigate To",
    "Back",
    "Forward",
    "Refresh",
    "Element Click",
    "Element Send Keys",
    "Perform Actions",
)
What = tuple[str, str, bytes]
"""Method, path and body: equal for one command sent again."""


class FailingCommand(msgspec.Struct):
    """A command that failed once or several times. Times are those of ``time.monotonic``."""

    what: What
    test: str
    description: str
    code: str
    since: float
    until: float

    @property
    def seconds(self) -> float:
        """How long the suite tried it."""
        return self.until - self.since


class FailedCommands:
    """The commands that fail on the current page.

    A suite that waits for one of two elements sends two commands in turn: each is tracked
    separately.
    """

    def __init__(self) -> None:
        self._known: dict[What, FailingCommand] = {}
        self.last: FailingCommand | None = None
        """The last failed command, if the suite has sent no other command since."""

    def add(self, what: What, test: str, message: str, value: Any, began: float) -> None:
        """A command failed with this error value."""
        code = ""
        if isinstance(value, Mapping):
            code = str(value.get("error", ""))
        now = time.monotonic()
        known = self._known.get(what)
        if known is not None and known.test == test:
            known.until = now
        else:
            known = self._known[what] = FailingCommand(
                what=what, test=test, description=message, code=code, since=began, until=now
            )
        self.last = known

    def succeeded(self, what: What, name: str) -> None:
        """A command succeeded: the suite no longer waits for it, and perhaps not for any other
        command.
        """
        self._known.pop(what, None)
        if name in _MOVES:
            self._known.clear()
        if name in _MOVES or name.startswith("Find"):
            self.last = None
