"""The common interface of browsers, independent of their protocol. Each browser has one session."""

from __future__ import annotations

import asyncio
import json
import socket
import time
from collections.abc import Mapping
from typing import Any, Protocol

import msgspec

from wolfbane.browsers.capabilities import Wanted, size
from wolfbane.browsers.failures import WebDriverError
from wolfbane.browsers.records import BrowserRecords
from wolfbane.workspace.settings import Browser

PATIENCE = 60.0
_SIZES = "return [innerWidth, innerHeight, outerWidth, outerHeight]"
_TRIES = 3
"""Windows asked for until the page has its size: the frame's size is known only then."""
_RESTING = 0.5
"""Seconds without a change after which a window has the size that it will have."""
_Size = tuple[int, int]


class Reply(msgspec.Struct, frozen=True):
    """What a browser answered: an HTTP status, and the body as JSON text."""

    status: int
    body: bytes

    @property
    def value(self) -> Any:
        """The answer's value; what cannot be read is nothing."""
        try:
            return json.loads(self.body).get("value")
        except (ValueError, AttributeError):
            return None


class BrowserDriver(Protocol):
    """A browser with one session."""

    session: str
    address: str
    """Where its driver has the session; empty where it is reached by a protocol of its own."""
    granted: dict[str, Any]
    said: str
    records: BrowserRecords
    """What the browser told of its console and its network."""

    async def open(self, want: Wanted) -> None:
        """Start the browser and a session in it. Raises CannotOpen and WebDriverError."""

    async def command(self, method: str, path: str, body: bytes) -> Reply:
        """Send a command of the session. Raises OSError where the browser is gone."""

    async def read_records(self) -> None:
        """Have all in ``records`` that happened until now."""

    def for_suite(self, path: str, parameters: Mapping[str, Any], reply: Reply) -> Reply:
        """An answer as the suite would get it if nobody else asked this browser anything."""

    async def close(self) -> None:
        """End the session, its programs, and its folder."""

    def ended(self) -> str:
        """How its program ended by itself; nothing while it runs."""


async def value_of(driver: BrowserDriver, method: str, path: str, body: Any = None) -> Any:
    """A command's value. Raises WebDriverError and OSError."""
    sent = b"" if method != "POST" else json.dumps(body or {}).encode()
    reply = await driver.command(method, path, sent)
    value = reply.value
    if reply.status >= 400:
        fields = value if isinstance(value, dict) else {}
        raise WebDriverError(str(fields.get("error", "")), str(fields.get("message", "")))
    return value


async def fit(driver: BrowserDriver, browser: Browser) -> str:
    """Make the page as large as the settings say, whatever the window's frame takes.

    Returns words where the browser does not make it so.
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
        await value_of(driver, "POST", "window/rect", rect)
        page, window = await _settled(driver, wide)
    if page == wide or not browser.window:
        return ""
    return f"the page is {page[0]}x{page[1]}, not {browser.window}"


async def _settled(driver: BrowserDriver, wide: _Size) -> tuple[_Size, _Size]:
    """The sizes of the page and its window, once the page is as large as asked or they rest.

    A busy browser resizes the page after the window: what is read in between fits nothing.
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
    wide, high, outer_wide, outer_high = await value_of(driver, "POST", "execute/sync", body)
    return (wide, high), (outer_wide, outer_high)


def free_port() -> int:
    """A port of the loopback that nobody listens on just now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
