"""Sends requests within limits of time and size."""

from __future__ import annotations

import asyncio
import ssl
import time
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from yarl import URL

from wolfbane.kinds.workflow.runner.cookies import CookieStore
from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.settings import HttpOptions
from wolfbane.kinds.workflow.runner.transport import Timing, Transport, TransportError

TICK = 0.01
"""Seconds: the precision of timers."""


Hops = list[tuple[Call, Answer]]
"""Requests that were redirected, each with its response."""


class NoAnswer(Exception):
    """A request without a complete response. The text gives the reason.

    ``hops`` are the redirects before it. ``asked`` is the request if they led to another one.
    """

    hops: Sequence[tuple[Call, Answer]] = ()
    asked: Call | None = None


class NotAllowed(Exception):
    """A request to a host that load tests must not use. The text is its address."""


class OutOfTime(NoAnswer):
    """The time limit of the test was reached during a request."""


@dataclass(frozen=True)
class Patience:
    """The time limits of a request, in seconds: for the connection, and for the complete response.

    ``until`` checks the text of a body so far, and is true if enough of it was read.
    """

    connect: float
    read: float
    until: Callable[[Answer], bool] | None = None


class Sender:
    """Sends the requests of one workflow, one after the other, each with the earlier cookies.

    Raises NotAllowed if ``allowed`` forbids requests to a URL.
    """

    def __init__(
        self,
        http: HttpOptions,
        transport: Transport,
        allowed: Callable[[URL], bool] = lambda url: True,
    ) -> None:
        self.http = http
        self.patience = Patience(http.connect, http.read)
        self.timing = Timing(0.0)
        """Of the last request."""
        self._asked: Call | None = None
        self._transport, self._allowed = transport, allowed
        self._cookies = CookieStore()
        self._deadline = float("inf")

    def begin(self, limit: float, cookies: Sequence[Mapping[str, Any]]) -> None:
        """Start a test of ``limit`` seconds, with only the cookies of its dependencies."""
        self._deadline = time.monotonic() + limit
        self._cookies.replace(cookies)

    def cookies(self) -> list[dict[str, Any]]:
        """The current cookies."""
        return self._cookies.data()

    async def send(self, call: Call, patience: Patience | None = None) -> Answer:
        """The whole response, or the part that is waited for. Raises NoAnswer or OutOfTime."""
        patience = patience or self.patience
        request = f"{call.method} {call.url}"
        begun: list[Answer] = []
        hops: Hops = []
        timing, left = Timing(time.perf_counter()), self.left()
        timing.read, timing.patience = min(patience.read, left), min(patience.connect, left)
        self.timing = timing
        try:
            async with asyncio.timeout(timing.read) as timing.clock:
                return await self._exchange(call, patience, begun, hops=hops)
        except TimeoutError:
            if self.left() < TICK:
                late = OutOfTime(f"no complete response yet: {request}")
                raise self._with_hops(late, hops) from None
            message = too_late(patience, begun)
            if timing.is_connecting:
                message = f"no connection within {patience.connect:g} s"
            raise self._with_hops(NoAnswer(f"{message}: {request}"), hops) from None
        except (TransportError, ValueError) as error:
            message = words_of_cause(error, self.http) or str(error) or type(error).__name__
            raise self._with_hops(NoAnswer(f"{message}: {request}"), hops) from None
        finally:
            timing.ended = time.perf_counter()

    def _with_hops(self, error: NoAnswer, hops: Hops) -> NoAnswer:
        error.hops, error.asked = hops, self._asked if hops else None
        return error

    async def _exchange(
        self, call: Call, patience: Patience, begun: list[Answer], hops: Hops
    ) -> Answer:
        """One exchange, redirects included. ``begun`` gets the response when its headers arrive.

        ``hops`` gets each redirect.
        """
        asked, url = call, _url(call.url)
        while True:
            self._asked = asked
            if not self._allowed(url):
                raise NotAllowed(str(url))
            began, own = time.perf_counter(), asked.headers
            asked.headers = dict(self._cookies.add_to(own, asked.url))
            exchange = await self._transport.start(asked, url, self.timing)
            try:
                answer = exchange.answer
                self._cookies.take(exchange.set_cookies, asked.url)
                leads_on = answer.status in REDIRECTS and exchange.location
                is_last = not leads_on or not self.http.redirects
                if is_last:
                    answer.hops, answer.asked = hops, None if asked is call else asked
                    begun.append(answer)
                # The body of a redirect is read, too: its connection is free again after that.
                if is_last:
                    chosen = patience
                else:
                    chosen = self.patience
                await read_body(exchange.chunks(), answer, chosen, limit=self.http.body_limit)
                answer.wire = exchange.wire()
                if is_last:
                    answer.seconds = time.perf_counter() - self.timing.began
                    return answer
            finally:
                await exchange.close()
            answer.seconds = time.perf_counter() - began
            hops.append((asked, answer))
            if len(hops) > self.http.redirects:
                raise NoAnswer(f"more than {self.http.redirects} redirects")
            url = url.join(URL(exchange.location))
            asked = redirected(asked, own, answer.status, url=url)

    async def close(self) -> None:
        """Close every connection."""
        await self._transport.close()

    def left(self) -> float:
        """Seconds until the time limit of the test, at least zero."""
        return max(self._deadline - time.monotonic(), 0.0)

    async def pause(self, seconds: float) -> None:
        """Wait. Raises OutOfTime if the test's time limit is reached before."""
        left = self.left()
        await asyncio.sleep(min(seconds, left))
        if seconds > left:
            raise OutOfTime(f"during a pause of {seconds:g} s before a retry")


@lru_cache(maxsize=4096)
def _url(text: str) -> URL:
    """A parsed URL.

    The results are cached, because the same URLs are used repeatedly. Raises ValueError.
    """
    return URL(text, encoded=True)


async def read_body(
    chunks: AsyncIterator[bytes], answer: Answer, patience: Patience, limit: int
) -> None:
    """The body: at most ``limit`` bytes, and only the awaited part. Raises NoAnswer."""
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
    """The reason why a response is late; ``begun`` contains it if its headers have arrived."""
    if not begun:
        return f"no response within {patience.read:g} s"
    if patience.until is not None:
        return f"the x-until condition was not met within {patience.read:g} s"
    return f"the body was not complete within {patience.read:g} s"


def words_of_cause(error: BaseException, http: HttpOptions) -> str:
    """A text for the cause of an error, if the library's own text is too short."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ConnectionRefusedError):
            return "connection refused"
        wanted = isinstance(cause, ssl.SSLError) and "CERTIFICATE_REQUIRED" in str(cause)
        if wanted or isinstance(cause, ssl.SSLEOFError):
            own = "without"
            if http.certificate:
                own = "with"
            return f"the server ended the TLS connection, {own} a client's certificate"
        cause = cause.__cause__ or cause.__context__
    return ""


_SEE_OTHER = 303
_MAY_CHANGE = (301, 302)
REDIRECTS = (*_MAY_CHANGE, _SEE_OTHER, 307, 308)
_PRIVATE = ("authorization", "cookie")


def redirected(call: Call, own: Mapping[str, str], status: int, url: URL) -> Call:
    """The request for a redirect to ``url``.

    ``own`` are the headers of the request before the workflow's cookies were added.
    """
    headers = {name: value for name, value in own.items() if name.lower() != "host"}
    private = {*_PRIVATE, *call.private}
    if URL(call.url).origin() != url.origin():  # credentials are for one host only
        headers = {name: value for name, value in headers.items() if name.lower() not in private}
    changed = status == _SEE_OTHER or (status in _MAY_CHANGE and call.method == "POST")
    if not changed or call.method == "HEAD":
        return Call(
            method=call.method,
            url=str(url),
            headers=headers,
            query={},
            path={},
            body=call.body,
            content=call.content,
            private=call.private,
        )
    kept = {name: v for name, v in headers.items() if not name.lower().startswith("content-")}
    return Call(method="GET", url=str(url), headers=kept, query={}, path={}, private=call.private)
