"""Shares chromedriver's logs between Wolfbane and the suite, because each entry can be read only
once.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from wolfbane.browsers.engines.drivers import Reply
from wolfbane.browsers.failures import WebDriverError

LOG_PATH = "se/log"
CONSOLE, PERFORMANCE = "browser", "performance"
PREFERENCES = "goog:loggingPrefs"
_LEVELS = ("ALL", "DEBUG", "INFO", "WARNING", "SEVERE", "OFF")
_DEFAULT = {CONSOLE: "WARNING"}
"""The default log settings of chromedriver."""


def with_ours(options: Mapping[str, Any], wished: Mapping[str, str]) -> dict[str, Any]:
    """The capabilities of Chromium that turn on the logs, in addition to those of the suite.

    In the performance log, only network events are recorded, unless the suite requests more.
    """
    capabilities: dict[str, Any] = {PREFERENCES: {**wished, CONSOLE: "ALL", PERFORMANCE: "ALL"}}
    if PERFORMANCE not in wished:
        quiet = {"enableNetwork": True, "enablePage": False}
        capabilities["goog:chromeOptions"] = {**options, "perfLoggingPrefs": quiet}
    return capabilities


class DriverLogs:
    """The log entries that the suite has not read yet.

    ``wished`` is the requested level, by log.
    """

    def __init__(self, wished: Mapping[str, str]) -> None:
        self._wished = {**_DEFAULT, **wished}
        self._waiting: dict[str, list[Any]] = {}

    def read_early(self, kind: str, entries: list[Any]) -> None:
        """Entries that Wolfbane has read: keep those that the suite may request."""
        if kind in self._wished:
            self._waiting.setdefault(kind, []).extend(entries)

    def answer(self, kind: str, reply: Reply) -> Reply:
        """The response to the suite's request: the entries that it would get without Wolfbane."""
        if kind not in self._wished and kind == PERFORMANCE:
            error = WebDriverError("invalid argument", f"log type '{kind}' not found")
            return Reply(error.status, json.dumps({"value": error.value}).encode())
        if reply.status >= 400 or not isinstance(reply.value, list):
            return reply
        least = _rank(self._wished.get(kind, "ALL"))
        entries = [*self._waiting.pop(kind, []), *reply.value]
        kept = [each for each in entries if _rank(str(each.get("level", ""))) >= least]
        return Reply(reply.status, json.dumps({"value": kept}).encode())

    def types(self, reply: Reply) -> Reply:
        """The response to the suite's request for the available logs."""
        if reply.status >= 400 or PERFORMANCE in self._wished:
            return reply
        kept = [kind for kind in reply.value or () if kind != PERFORMANCE]
        return Reply(reply.status, json.dumps({"value": kept}).encode())


def _rank(level: str) -> int:
    if level in _LEVELS:
        return _LEVELS.index(level)
    return 0
