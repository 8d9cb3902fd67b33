"""A server that keeps its own account of each request. It speaks HTTP/1.1 on plain sockets.

Written without a library for HTTP, which would hide or repair what a real service does wrong.
"""

from __future__ import annotations

import asyncio
import contextlib
import socket
import struct
import threading
import time
from collections.abc import Mapping

import msgspec
from benchmarks.services.behaviour import FAULTS, Behaviour


class Entry(msgspec.Struct):
    """One request that the server has read, with its response.

    ``status`` is 0 without a whole response. ``received`` and ``sent`` are lengths of bodies as
    they were sent. ``began`` and ``ended`` are times of ``time.monotonic``.
    """

    method: str
    path: str
    received: int
    began: float
    status: int = 0
    sent: int = 0
    ended: float = 0.0


class Server:
    """A server in a thread of its own. ``behaviours`` are by path."""

    def __init__(self, behaviours: Mapping[str, Behaviour]) -> None:
        self.account: list[Entry] = []
        self.port = 0
        self._behaviours = behaviours
        self._loop = asyncio.new_event_loop()
        self._is_up = threading.Event()
        self._thread = threading.Thread(target=self._serve, daemon=True)

    def __enter__(self) -> Server:
        self._thread.start()
        self._is_up.wait()
        return self

    def __exit__(self, *error: object) -> None:
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join()

    def _serve(self) -> None:
        async def start() -> None:
            server = await asyncio.start_server(self._connection, "127.0.0.1", 0, backlog=1000)
            self.port = server.sockets[0].getsockname()[1]
            self._is_up.set()

        self._loop.run_until_complete(start())
        self._loop.run_forever()
        for task in asyncio.all_tasks(self._loop):
            task.cancel()
        self._loop.run_until_complete(asyncio.sleep(0))
        self._loop.close()

    async def _connection(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, asyncio.IncompleteReadError):
            while entry := await _read(reader):
                self.account.append(entry)
                if not await self._answer(entry, writer):
                    break
        writer.close()

    async def _answer(self, entry: Entry, writer: asyncio.StreamWriter) -> bool:
        """Answer a request; returns whether the connection stays open."""
        how = self._behaviours[entry.path]
        if how.kind == "slow":
            await asyncio.sleep(how.wait)
        if how.kind in FAULTS:
            await _break(how, writer)
            entry.ended = time.monotonic()
            return False
        if how.kind == "hints":
            writer.write(b"HTTP/1.1 103 Early Hints\r\nLink: </a.css>; rel=preload\r\n\r\n")
        body = b"" if entry.method == "HEAD" else how.wire
        entry.status, entry.sent = how.status, len(body)
        writer.write(_head(how))
        half = len(body) // 2
        _send(how, body[:half], writer)
        if how.kind == "stall":
            await writer.drain()
            await asyncio.sleep(how.wait)
        entry.ended = time.monotonic()  # before the last bytes: nobody can have them earlier
        _send(how, body[half:], writer)
        if how.kind == "chunked":
            writer.write(b"0\r\n\r\n")
        await writer.drain()
        return how.kind not in ("close", "closes later")


def _send(how: Behaviour, part: bytes, writer: asyncio.StreamWriter) -> None:
    is_chunk = how.kind == "chunked" and part
    writer.write(b"%x\r\n%s\r\n" % (len(part), part) if is_chunk else part)


def _head(how: Behaviour) -> bytes:
    headers = [f"{name}: {text}" for name, text in how.headers.items()]
    return "\r\n".join([f"HTTP/1.1 {how.status} Ok", *headers, "", ""]).encode()


async def _break(how: Behaviour, writer: asyncio.StreamWriter) -> None:
    """End a connection without a whole response."""
    if how.kind == "garbage":
        writer.write(b"\x00\x01 this is no response\r\n\r\n")
    elif how.kind == "truncate":
        writer.write(_head(how) + how.wire[: len(how.wire) // 2])
    elif how.kind == "cut chunks":
        writer.write(_head(how) + b"%x\r\n%s" % (len(how.body), how.body[: len(how.body) // 2]))
    elif how.kind == "reset":
        listener = writer.get_extra_info("socket")
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    await writer.drain()


async def _read(reader: asyncio.StreamReader) -> Entry | None:
    """The next request of a connection; None at its end."""
    try:
        head = await reader.readuntil(b"\r\n\r\n")
    except asyncio.IncompleteReadError:
        return None
    began = time.monotonic()
    first, *lines = head.decode("latin-1").split("\r\n")
    method, target, _ = first.split(" ")
    headers = {name.lower(): text.strip() for name, _, text in (x.partition(":") for x in lines)}
    length = int(headers.get("content-length", 0))
    if headers.get("transfer-encoding") == "chunked":
        raise NotImplementedError("a request in chunks")
    await reader.readexactly(length)
    return Entry(method, target.partition("?")[0], length, began)
