"""WebDriver BiDi: passes messages unchanged in both directions."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any

import aiohttp
from aiohttp import web

from wolfbane.browsers.failures import WebDriverError

_LARGEST = 64 << 20
Socket = web.WebSocketResponse | aiohttp.ClientWebSocketResponse


async def pass_through(
    request: web.BaseRequest, client: aiohttp.ClientSession, granted: Mapping[str, Any]
) -> web.StreamResponse:
    """Connect a suite's WebSocket to the browser's.

    Raises WebDriverError if the browser has none.
    """
    url = granted.get("webSocketUrl")
    if not isinstance(url, str):
        raise WebDriverError("unsupported operation", "the session was opened without webSocketUrl")
    ours = web.WebSocketResponse(max_msg_size=_LARGEST)
    try:
        async with client.ws_connect(url, max_msg_size=_LARGEST) as theirs:
            await ours.prepare(request)
            both = [asyncio.create_task(_pump(a, b)) for a, b in ((ours, theirs), (theirs, ours))]
            try:
                await asyncio.wait(both, return_when=asyncio.FIRST_COMPLETED)
            finally:
                for task in both:
                    task.cancel()
                await asyncio.gather(*both, return_exceptions=True)
            await ours.close()
    except aiohttp.ClientError as error:
        raise WebDriverError("unknown error", f"the browser's WebSocket: {error}") from None
    return ours


async def _pump(source: Socket, sink: Socket) -> None:
    async for message in source:
        if message.type is aiohttp.WSMsgType.TEXT:
            await sink.send_str(message.data)
        elif message.type is aiohttp.WSMsgType.BINARY:
            await sink.send_bytes(message.data)
