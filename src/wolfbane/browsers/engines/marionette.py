"""Firefox's own remote protocol: JSON messages over TCP, each preceded by its length."""

from __future__ import annotations

import asyncio
import contextlib
import json
from typing import Any

from wolfbane.browsers.failures import WebDriverError


class Marionette:
    """A connection to one Firefox. One command at a time."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._reader, self._writer = reader, writer
        self._last = 0

    @classmethod
    async def connect(cls, port: int) -> Marionette:
        """Connect and read the greeting. Raises OSError while nothing listens."""
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        connection = cls(reader, writer)
        await connection._read()
        return connection

    async def command(self, name: str, parameters: dict[str, Any]) -> Any:
        """Send a command and return its result.

        Raises WebDriverError, and OSError if Firefox no longer runs.
        """
        self._last += 1
        text = json.dumps([0, self._last, name, parameters]).encode()
        try:
            self._writer.write(b"%d:%b" % (len(text), text))
            await self._writer.drain()
            while True:
                kind, number, error, result = await self._read()
                if kind == 1 and number == self._last:
                    break
        except (asyncio.IncompleteReadError, ValueError) as broken:
            raise ConnectionResetError("the browser closed the connection") from broken
        if error:
            raise WebDriverError(error["error"], error.get("message", ""))
        return result

    async def _read(self) -> Any:
        length = await self._reader.readuntil(b":")
        return json.loads(await self._reader.readexactly(int(length[:-1])))

    def close(self) -> None:
        """Hang up."""
        with contextlib.suppress(OSError):
            self._writer.close()
