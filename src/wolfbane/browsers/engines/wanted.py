"""The session that a suite requests, and the size of its page."""

from __future__ import annotations

import json
from typing import Any

import msgspec

from wolfbane.workspace.settings import Browser
from wolfbane.workspace.vocabulary import OTHER_ENGINE

DEFAULT_SIZE = (1280, 800)
"""CSS pixels of a page if the settings define no size: the same in every engine."""


class Wanted(msgspec.Struct):
    """The requested session of a suite, adapted to the selected browser.

    ``standard`` are capabilities for the driver, ``arguments`` and ``preferences`` the suite's
    additions for the browser. ``said`` lists the requests that were ignored.
    """

    standard: dict[str, Any] = msgspec.field(default_factory=dict)
    arguments: list[str] = msgspec.field(default_factory=list)
    preferences: dict[str, Any] = msgspec.field(default_factory=dict)
    timeouts: dict[str, Any] = msgspec.field(default_factory=dict)
    said: list[str] = msgspec.field(default_factory=list)

    @property
    def key(self) -> str:
        """Equal for sessions that can replace each other."""
        settings = [self.standard, self.arguments, self.preferences]
        return json.dumps(settings, sort_keys=True)


def size(browser: Browser) -> tuple[int, int] | None:
    """Width and height of the page in CSS pixels; None if the browser uses its own size."""
    if not browser.window:
        if browser.engine == OTHER_ENGINE or browser.url:
            return None
        return DEFAULT_SIZE
    width, _, height = browser.window.partition("x")
    return int(width), int(height)
