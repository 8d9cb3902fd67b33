"""The common interface of browsers, independent of their protocol. Each browser has one session."""

from __future__ import annotations

import asyncio
import json
import socket
import time
from collections.abc import Mapping
from typing import Any, Protocol

import msgspec

from wolfbane.browsers.engines.wanted import Wanted, size
from wolfbane.browsers.evidence.records import BrowserRecords
from wolfbane.browsers.failures import WebDriverError
from wolfbane.workspace.settings import Browser

PATIENCE = 60.0
_SIZES = "return [innerWidth, innerHeight, outerWidth, outerHeight]"
_TRIES = 3
"""Attempts to set the window size until the page has its size, because the frame's size is known
only then.
"""
_RESTING = 0.5
"""Seconds without a change after which the size of a window counts as final."""
_Size = tuple[int, int]


class Reply(msgspec.Struct, frozen=True):
    """The response of a browser: an HTTP status, and the body as JSON text."""

    status: int
    body: bytes

    @property
    def value(self) -> Any:
        """The value of a response; None if it cannot be parsed."""
        try:
            return json.loads(self.body).get("value")
        except (ValueError, AttributeError):
            return None


class BrowserDriver(Protocol):
    """A browser with one session."""

    session: str
    address: str
    """The address of the session at its driver; empty if the browser uses its own protocol."""
    granted: dict[str, Any]
    said: str
    records: BrowserRecords
    """The console and network records of the browser."""
    downloads: str
    """The folder of its downloads; empty if Wolfbane does not know it."""

    async def open(self, want: Wanted) -> None:
        """Start the browser and a session in it. Raises CannotOpen and WebDriverError."""

    async def command(self, method: str, path: str, body: bytes) -> Reply:
        """Send a command of the session. Raises OSError if the browser no longer runs."""

    async def read_records(self) -> None:
        """Add all records until now to ``records``."""

    def for_suite(self, path: str, parameters: Mapping[str, Any], reply: Reply) -> Reply:
        """A response as the suite would get it without Wolfbane's own commands."""

    async def close(self) -> None:
        """End the session, its programs, and its folder."""

    def ended(self) -> str:
        """How its program ended by itself; empty while it runs."""


async def value_of(driver: BrowserDriver, method: str, path: str, body: Any = None) -> Any:
    """A command's value. Raises WebDriverError and OSError."""
    sent = b""
    if method == "POST":
        sent = json.dumps(body or {}).encode()
    reply = await driver.command(method, path, sent)
    value = reply.value
    if reply.status >= 400:
        if isinstance(value, dict):
            fields = value
        else:
            fields = {}
        raise WebDriverError(str(fields.get("error", "")), str(fields.get("message", "")))
    return value


async def fit(driver: BrowserDriver, browser: Browser) -> str:
    """Give the page the configured size, whatever the size of the window's frame.

    Returns a text if the browser does not set this size.
    """
    wide = size(browser)
    if wide is None:
        return ""
    page, window = await _sizes(driver)
    asked = None
    for _ in range(_TRIES):
        wanted = wide[0] + window[0] - page[0], wide[1] + window[1] - page[1]
        if page == wide or wanted == asked:
            break
        asked = wanted
        rect = {"width": wanted[0], "height": wanted[1]}
        await value_of(driver, "POST", "window/rect", body=rect)
        page, window = await _settled(driver, wide)
    if page == wide or not browser.window:
        return ""
    return f"the page is {page[0]}x{page[1]}, not {browser.window}"


async def _settled(driver: BrowserDriver, wide: _Size) -> tuple[_Size, _Size]:
    """The sizes of the page and its window, when the page has the requested size or they no longer
    change.

    A busy browser resizes the page after the window, so the values in between do not match.
    """
    sizes = await _sizes(driver)
    rest = time.monotonic() + _RESTING
    while sizes[0] != wide and time.monotonic() < rest:
        await asyncio.sleep(0.02)
        before, sizes = sizes, await _sizes(driver)
        if sizes != before:
            rest = time.monotonic() + _RESTING
    return sizes


async def _sizes(driver: BrowserDriver) -> tuple[_Size, _Size]:
    body = {"script": _SIZES, "args": []}
    wide, high, outer_wide, outer_high = await value_of(driver, "POST", "execute/sync", body=body)
    return (wide, high), (outer_wide, outer_high)


def free_port() -> int:
    """A loopback port that is currently free."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
