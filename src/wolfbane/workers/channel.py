"""Wolfbane's end of the channel: a loopback server that exchanges messages with the workers."""

from __future__ import annotations

import asyncio
import json
import socket
from collections.abc import Callable
from typing import Any

import msgspec

from wolfbane.workers.protocol import HelloMessage, WorkerMessage
from wolfbane.workers.worker_command import address_of, listen

Request = dict[str, Any]
"""A request to a worker, as a JSON object."""
LONGEST_LINE = 64 << 20
"""Bytes of a line without an end after which a worker counts as broken."""
_DECODER: msgspec.json.Decoder[WorkerMessage] = msgspec.json.Decoder(WorkerMessage)


class Unreadable(msgspec.Struct, frozen=True):
    """A line that is not a protocol message: its first characters, and the error."""

    text: str
    problem: str


Handler = Callable[["Connection", "WorkerMessage | Unreadable"], None]


class Connection(asyncio.Protocol):
    """The socket of one worker. The first message must be a hello with an expected token."""

    def __init__(self, server: ChannelServer) -> None:
        self._server = server
        self._buffer = bytearray()
        self._handler: Handler | None = None
        self._transport: asyncio.Transport | None = None
        self.lost = False
        """Whether the other end is closed, and all its data was read."""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """Store the transport, for sending."""
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport

    def connection_lost(self, exc: Exception | None) -> None:
        """Remember that no more data will arrive."""
        self.lost = True

    def data_received(self, data: bytes) -> None:
        """Split data into lines; an incomplete line waits for its end."""
        self._buffer += data
        if b"\n" not in data:
            if len(self._buffer) > LONGEST_LINE:
                self._unreadable("a line without an end", "the line is too long")
            return
        *lines, rest = bytes(self._buffer).split(b"\n")
        self._buffer = bytearray(rest)
        for line in lines:
            self._line(line)

    def send(self, message: Request) -> None:
        """Send one message, if the worker is still connected."""
        if self._transport is not None and not self._transport.is_closing():
            self._transport.write(msgspec.json.encode(message) + b"\n")

    def close(self) -> None:
        """Close the channel: a worker ends when it detects this."""
        if self._transport is not None:
            self._transport.close()

    def _line(self, line: bytes) -> None:
        try:
            message = read_message(line)
        except (ValueError, RecursionError) as error:
            self._unreadable(line[:200].decode("utf-8", "replace"), str(error))
            return
        if self._handler is None:
            self._handler = self._server.admit(message)
            if self._handler is None:
                self.close()
                return
        self._handler(self, message)

    def _unreadable(self, text: str, problem: str) -> None:
        if self._handler is not None:
            self._handler(self, Unreadable(text, problem))
        else:
            self.close()


class ChannelServer:
    """Listens on loopback and admits workers by their tokens."""

    def __init__(self) -> None:
        self._handlers: dict[str, Handler] = {}
        self._server: asyncio.Server | None = None
        self.address = ""

    async def open(self, listening: socket.socket | None = None) -> None:
        """Accept workers, on a free port if there is no socket for them yet."""
        loop = asyncio.get_running_loop()
        listening = listening or listen()
        self.address = address_of(listening)
        self._server = await loop.create_server(lambda: Connection(self), sock=listening)

    def close(self) -> None:
        """Stop to listen."""
        if self._server is not None:
            self._server.close()

    def expect(self, token: str, handler: Handler) -> None:
        """Admit one worker, whose messages go to ``handler``."""
        self._handlers[token] = handler

    def forget(self, token: str) -> None:
        """Stop admitting this worker."""
        self._handlers.pop(token, None)

    def admit(self, hello: WorkerMessage) -> Handler | None:
        """The handler of a worker that says hello with its token, or None."""
        if isinstance(hello, HelloMessage):
            return self._handlers.get(hello.token)
        return None


def read_message(line: bytes) -> WorkerMessage:
    """A message from its line. Raises ValueError if it is not a message of the protocol."""
    if rb"\ud" in line or rb"\uD" in line:  # half a character may be among these escapes
        message: WorkerMessage = msgspec.convert(
            _without_surrogates(json.loads(line)), WorkerMessage
        )
        return message
    return _DECODER.decode(line)


def _without_surrogates(value: Any) -> Any:
    """Surrogates, which cannot be stored in a file, as visible escapes."""
    if isinstance(value, str):
        return value.encode("utf-8", "backslashreplace").decode("utf-8")
    if isinstance(value, list):
        return [_without_surrogates(item) for item in value]
    if isinstance(value, dict):
        return {key: _without_surrogates(item) for key, item in value.items()}
    return value
