"""Queries a browser without affecting its suite."""

from __future__ import annotations

import json
from typing import Any

from wolfbane.browsers.engines.drivers import BrowserDriver, Reply

_OPEN_DIALOG = "unexpected alert open"


class DialogOpened(Exception):
    """A dialog blocked one of Wolfbane's commands.

    ``reply`` is the response for the suite's next command.

    The browser has handled the dialog as the session requests. A command of the suite would have
    got the same response.
    """

    def __init__(self, reply: Reply) -> None:
        self.reply = reply
        super().__init__("a dialog opened")


class PageLooks:
    """Sends Wolfbane's own commands to a browser."""

    def __init__(self, driver: BrowserDriver) -> None:
        self._driver = driver

    async def ask(self, method: str, path: str, body: Any = None) -> Any:
        """The value of a command; None if it fails. Raises DialogOpened and OSError."""
        content = b""
        if method == "POST":
            content = json.dumps(body or {}).encode()
        reply = await self._driver.command(method, path, content)
        value = reply.value
        if reply.status < 400:
            return value
        if isinstance(value, dict) and value.get("error") == _OPEN_DIALOG:
            raise DialogOpened(reply)
        return None
