"""Wolfbane's end of the channel: a loopback server that hands messages to their workers."""

from __future__ import annotations

import asyncio
import json
import secrets
from collections.abc import Callable
from typing import Any

Message = dict[str, Any]
Handler = Callable[["Connection", Message], None]
LONGEST_LINE = 64 << 20


class Connection(asyncio.Protocol):
    """One worker's socket. The first message must be a hello with a token that is expected."""

    def __init__(self, server: ChannelServer) -> None:
        self._server = server
        self._buffer = bytearray()
        self._handler: Handler | None = None
        self._transport: asyncio.Transport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport

    def data_received(self, data: bytes) -> None:
        self._buffer += data
        if b"\n" not in data:
            if len(self._buffer) > LONGEST_LINE:
                self._nonsense("a line without an end")
            return
        *lines, rest = bytes(self._buffer).split(b"\n")
        self._buffer = bytearray(rest)
        for line in lines:
            self._line(line)

    def send(self, message: Message) -> None:
        """Send one message, if the worker is still there."""
        if self._transport is not None and not self._transport.is_closing():
            self._transport.write(json.dumps(message).encode() + b"\n")

    def close(self) -> None:
        """Close the channel: a worker ends when it sees this."""
        if self._transport is not None:
            self._transport.close()

    def _line(self, line: bytes) -> None:
        try:
            message = json.loads(line)
            if not isinstance(message, dict) or not isinstance(message.get("type"), str):
                raise ValueError("no message")
        except (ValueError, RecursionError):
            self._nonsense(line[:200].decode("utf-8", "replace"))
            return
        if rb"\ud" in line or rb"\uD" in line:
            message = _without_surrogates(message)
        if self._handler is None:
            self._handler = self._server.admit(message)
            if self._handler is None:
                self.close()
                return
        self._handler(self, message)

    def _nonsense(self, text: str) -> None:
        if self._handler is not None:
            self._handler(self, {"type": "nonsense", "text": text})
        else:
            self.close()


class ChannelServer:
    """Listens on loopback; workers are admitted by their tokens."""

    def __init__(self) -> None:
        self._handlers: dict[str, Handler] = {}
        self._server: asyncio.Server | None = None
        self.address = ""

    async def open(self) -> None:
        """Start to listen on a free port."""
        loop = asyncio.get_running_loop()
        self._server = await loop.create_server(lambda: Connection(self), "127.0.0.1", 0)
        driver, port = self._server.sockets[0].getsockname()[:2]
        self.address = f"{driver}:{port}"

    def close(self) -> None:
        """Stop to listen."""
        if self._server is not None:
            self._server.close()

    def expect(self, handler: Handler) -> str:
        """A token for one worker, whose messages go to ``handler``."""
        token = secrets.token_urlsafe(24)
        self._handlers[token] = handler
        return token

    def forget(self, token: str) -> None:
        """Admit that worker no more."""
        self._handlers.pop(token, None)

    def admit(self, hello: Message) -> Handler | None:
        """The handler of a worker that says hello with its token, else None."""
        return self._handlers.get(str(hello.get("token"))) if hello["type"] == "hello" else None


def _without_surrogates(value: Any) -> Any:
    """Half characters, which no file could hold, as visible escapes."""
    if isinstance(value, str):
        return value.encode("utf-8", "backslashreplace").decode("utf-8")
    if isinstance(value, list):
        return [_without_surrogates(item) for item in value]
    if isinstance(value, dict):
        return {key: _without_surrogates(item) for key, item in value.items()}
    return value
