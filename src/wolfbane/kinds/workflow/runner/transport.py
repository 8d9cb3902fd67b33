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
    """When the parts of an exchange were over, by ``time.perf_counter``; zero for what was not.

    ``connect`` and ``tls`` are durations in seconds: a connection that is kept has neither.
    ``clock`` ends the exchange if it takes too long. It allows ``read`` seconds for the answer, and
    ``patience`` seconds before that where a connection has to be made first.
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
        """A connection is being made; after a redirect it is part of the answer's time."""
        if self.clock is not None and not self.first_byte:
            self.is_connecting = True
            self.clock.reschedule(asyncio.get_running_loop().time() + self.patience)

    def connected(self) -> None:
        """The connection is there: the time for the answer begins."""
        if self.clock is not None and self.is_connecting:
            self.is_connecting = False
            self.clock.reschedule(asyncio.get_running_loop().time() + self.read)

    def answered(self) -> None:
        """The first byte of an answer is here."""
        self.first_byte = time.perf_counter()


class TransportError(Exception):
    """A request without a complete response. The text gives the reason."""


class Exchange(ABC):
    """A request whose answer has begun. ``answer`` lacks its body and its time."""

    answer: Answer
    set_cookies: list[str]
    """The values of its ``Set-Cookie`` headers."""
    location: str
    """Where it redirects to, if it does."""

    @abstractmethod
    def chunks(self) -> AsyncIterator[bytes]:
        """The body, decoded, piece by piece. Raises TransportError."""

    @abstractmethod
    async def close(self) -> None:
        """Give the connection back, or close it where the body was not read."""


class Transport(ABC):
    """Connections that are kept from one request to the next."""

    @abstractmethod
    async def start(self, call: Call, url: URL, timing: Timing) -> Exchange:
        """Send a request, and wait for the head of its answer. Raises TransportError.

        ``call.headers`` are as they went out afterwards.
        """

    @abstractmethod
    async def close(self) -> None:
        """Close every connection."""
