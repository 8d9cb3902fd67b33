"""Listens to the console and network of a session through WebDriver BiDi, next to the suite."""

from __future__ import annotations

import asyncio
import contextlib
import json

import aiohttp

from wolfbane.browsers.evidence.records import BrowserRecords

_EVENTS = (
    "log.entryAdded",
    "network.beforeRequestSent",
    "network.responseCompleted",
    "network.fetchError",
)
_LARGEST = 64 << 20
_PATIENCE = 10.0
_CLOSING = aiohttp.ClientWSTimeout(ws_close=0.2)
"""A browser that will be ended soon does not need a closing handshake."""


class BidiListener:
    """Wolfbane's own connection to a session: a browser allows several."""

    def __init__(self, records: BrowserRecords) -> None:
        self._records = records
        self._task: asyncio.Task[None] | None = None
        self._session: aiohttp.ClientSession | None = None
        self._socket: aiohttp.ClientWebSocketResponse | None = None

    async def open(self, url: str) -> None:
        """Subscribe to events. If a browser has no such connection, its events are not recorded."""
        self._session = aiohttp.ClientSession()
        with contextlib.suppress(aiohttp.ClientError, OSError, TimeoutError):
            async with asyncio.timeout(_PATIENCE):
                socket = self._socket = await self._session.ws_connect(
                    url, max_msg_size=_LARGEST, timeout=_CLOSING
                )
                wish = {"method": "session.subscribe", "params": {"events": list(_EVENTS)}}
                await socket.send_json({"id": 1, **wish})
                await socket.receive()
            self._task = asyncio.create_task(self._hear(socket))

    async def _hear(self, socket: aiohttp.ClientWebSocketResponse) -> None:
        async for message in socket:
            if message.type is aiohttp.WSMsgType.TEXT:
                event = json.loads(message.data)
                if event.get("type") == "event":
                    self._records.add_bidi_event(event["method"], event["params"])

    async def close(self) -> None:
        """Hang up."""
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)
        if self._socket is not None:
            await self._socket.close()
        if self._session is not None:
            await self._session.close()
