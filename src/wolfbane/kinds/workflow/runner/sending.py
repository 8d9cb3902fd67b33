"""Send requests within limits of time and size, whatever the server does."""

from __future__ import annotations

import asyncio
import ssl
import time
from abc import ABC, abstractmethod
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.settings import HttpOptions

OWN_HEADERS = {"User-Agent": "wolfbane", "Accept": "*/*"}
TICK = 0.01
"""Seconds: timers are not more exact than this."""


class NoAnswer(Exception):
    """A request that got no whole answer; the text says why."""


class OutOfTime(NoAnswer):
    """The time of the test is over, while a request was on its way."""


@dataclass(frozen=True)
class Patience:
    """How long a request may take: for the connection, and for the whole answer, in seconds.

    ``until`` looks at the text so far of a body, and is true where enough of it has been read.
    """

    connect: float
    read: float
    until: Callable[[Answer], bool] | None = None


class Sender(ABC):
    """Sends the requests of one workflow after the other, each with the cookies before it."""

    def __init__(self, http: HttpOptions) -> None:
        self.http = http
        self.patience = Patience(http.connect, http.read)
        self._deadline = float("inf")

    def begin(self, limit: float, cookies: Sequence[Mapping[str, Any]]) -> None:
        """Begin a test of ``limit`` seconds, with the cookies of those that it depends on alone."""
        self._deadline = time.monotonic() + limit

    @abstractmethod
    def cookies(self) -> list[dict[str, Any]]:
        """The cookies as they are now."""

    @abstractmethod
    async def send(self, call: Call, patience: Patience | None = None) -> Answer:
        """The whole answer, or as much of it as is waited for. Raises NoAnswer or OutOfTime."""

    def left(self) -> float:
        """Seconds until the time of the test is over, none below zero."""
        return max(self._deadline - time.monotonic(), 0.0)

    async def pause(self, seconds: float) -> None:
        """Wait. Raises OutOfTime where the test's time ends before."""
        left = self.left()
        await asyncio.sleep(min(seconds, left))
        if seconds > left:
            raise OutOfTime(f"during a pause of {seconds:g} s before a retry")


async def read_body(
    chunks: AsyncIterator[bytes], answer: Answer, patience: Patience, limit: int
) -> None:
    """The body: not more than ``limit`` bytes, nor more than is waited for. Raises NoAnswer."""
    read, size = [], 0
    async for chunk in chunks:
        read.append(chunk)
        size += len(chunk)
        if size > limit:
            raise NoAnswer(f"the body is longer than {limit:,} bytes (body_limit)")
        if patience.until is not None:
            answer.replace_content(b"".join(read))
            if patience.until(answer):
                return
    answer.replace_content(b"".join(read))
    answer.reached = patience.until is None


def too_late(patience: Patience, begun: Sequence[Answer]) -> str:
    """Why an answer is not there in time; ``begun`` has it where its headers came."""
    if not begun:
        return f"no answer within {patience.read:g} s"
    if patience.until is not None:
        return f"x-until did not hold within {patience.read:g} s"
    return f"the body was not there within {patience.read:g} s"


def words_of_cause(error: BaseException, http: HttpOptions) -> str:
    """Words for what is behind an error, where the library's own say too little."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ConnectionRefusedError):
            return "connection refused"
        wanted = isinstance(cause, ssl.SSLError) and "CERTIFICATE_REQUIRED" in str(cause)
        if wanted or isinstance(cause, ssl.SSLEOFError):
            own = "with" if http.certificate else "without"
            return f"the server ended the TLS connection, {own} a client's certificate"
        cause = cause.__cause__ or cause.__context__
    return ""
