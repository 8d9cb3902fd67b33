"""The interface to an HTTP library that sends one request."""

from __future__ import annotations

import asyncio
import time
from abc import ABC, abstractmethod
from collections.abc import AsyncIterator

import msgspec
from yarl import URL

from wolfbane.kinds.workflow.runner.scope import Answer, Call

OWN_HEADERS = {"User-Agent": "wolfbane", "Accept": "*/*"}


class Timing(msgspec.Struct):
    """The end times of an exchange's phases, by ``time.perf_counter``; zero if a phase has not
    ended.

    ``connect`` and ``tls`` are durations in seconds: a reused connection has neither. ``clock``
    ends the exchange if it takes too long. It allows ``read`` seconds for the response, and
    additionally ``patience`` seconds for a new connection.
    """

    began: float
    connect: float = 0.0
    tls: float = 0.0
    first_byte: float = 0.0
    ended: float = 0.0
    clock: asyncio.Timeout | None = None
    read: float = 0.0
    patience: float = 0.0
    is_connecting: bool = False

    def connecting(self) -> None:
        """A connection is being opened; after a redirect, this is part of the response time."""
        if self.clock is not None and not self.first_byte:
            self.is_connecting = True
            self.clock.reschedule(asyncio.get_running_loop().time() + self.patience)

    def connected(self) -> None:
        """The connection is open: the time for the response starts."""
        if self.clock is not None and self.is_connecting:
            self.is_connecting = False
            self.clock.reschedule(asyncio.get_running_loop().time() + self.read)

    def answered(self) -> None:
        """The first byte of a response has arrived."""
        self.first_byte = time.perf_counter()


class TransportError(Exception):
    """A request without a complete response. The text gives the reason."""


class Exchange(ABC):
    """A request whose response has started. ``answer`` lacks its body and its time."""

    answer: Answer
    set_cookies: list[str]
    """The values of its ``Set-Cookie`` headers."""
    location: str
    """The target of its redirect, if any."""

    @abstractmethod
    def chunks(self) -> AsyncIterator[bytes]:
        """The body, decoded, piece by piece. Raises TransportError."""

    @abstractmethod
    def wire(self) -> int:
        """Bytes of the body that were received, before decoding; -1 if it is not known."""

    @abstractmethod
    async def close(self) -> None:
        """Return the connection, or close it if the body was not read."""


class Transport(ABC):
    """Connections that are reused between requests."""

    @abstractmethod
    async def start(self, call: Call, url: URL, timing: Timing) -> Exchange:
        """Send a request, and wait for the head of its response. Raises TransportError.

        ``call.headers`` are those that were sent, afterwards.
        """

    @abstractmethod
    async def close(self) -> None:
        """Close every connection."""
