"""Send the requests of one user under load: connections and cookies of its own, timed in parts.

aiohttp handles many times the requests per second of a processor that httpx does, which is what
counts here; plain runs use httpx, which speaks HTTP/2.
"""

from __future__ import annotations

import asyncio
import ssl
import time
import weakref
from collections.abc import Callable, Mapping, Sequence
from contextvars import ContextVar
from functools import lru_cache
from http.cookies import SimpleCookie
from typing import Any

import aiohttp
import msgspec
from yarl import URL

from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.sending import (
    OWN_HEADERS,
    TICK,
    NoAnswer,
    OutOfTime,
    Patience,
    Sender,
    read_body,
    too_late,
    words_of_cause,
)
from wolfbane.kinds.workflow.runner.settings import HttpOptions
from wolfbane.kinds.workflow.runner.tls import TlsContext


class NotAllowed(Exception):
    """A request would go to a host that no load may go to; the text is its address."""


class Timing(msgspec.Struct):
    """When the parts of an exchange were over, by ``time.perf_counter``; zero for what was not.

    ``connect`` and ``tls`` are durations in seconds: a connection that is kept has neither.
    """

    began: float
    connect: float = 0.0
    tls: float = 0.0
    first_byte: float = 0.0
    ended: float = 0.0
    has_connection: bool = False
    clock: asyncio.Timeout | None = None
    read: float = 0.0

    def connected(self) -> None:
        """From here on the time for the answer counts."""
        self.has_connection = True
        if self.clock is not None:
            self.clock.reschedule(asyncio.get_running_loop().time() + self.read)


_SEE_OTHER = 303
_MAY_CHANGE = (301, 302)
_REDIRECTS = (*_MAY_CHANGE, _SEE_OTHER, 307, 308)
_PRIVATE = ("authorization", "cookie")
_timing: ContextVar[Timing] = ContextVar("timing")


class TimedContext(TlsContext):
    """Notes when the TLS handshake of a connection begins: asyncio wraps it just then."""

    def wrap_bio(self, *args: Any, **kwargs: Any) -> ssl.SSLObject:
        if timing := _timing.get(None):
            timing.tls = time.perf_counter()
        return super().wrap_bio(*args, **kwargs)


class _TimedConnector(aiohttp.TCPConnector):
    """Notes how long a new connection took. aiohttp's own tracing costs more than a request may."""

    def __init__(self, tls: ssl.SSLContext) -> None:
        super().__init__(ssl=tls, limit=0)
        self._known: weakref.WeakSet[Any] = weakref.WeakSet()

    async def connect(
        self, req: aiohttp.ClientRequest, traces: list[Any], timeout: aiohttp.ClientTimeout
    ) -> Any:
        """A connection, new or kept."""
        began = time.perf_counter()
        connection = await super().connect(req, traces, timeout)
        timing = _timing.get()
        timing.connected()
        if connection.protocol not in self._known:
            self._known.add(connection.protocol)
            now = time.perf_counter()
            wrapped = timing.tls or now
            timing.connect, timing.tls = wrapped - began, now - wrapped
        return connection


class AiohttpSender(Sender):
    """The connections and cookies of one user. ``allowed`` says whether a load may go to a URL."""

    def __init__(
        self, http: HttpOptions, tls: ssl.SSLContext, allowed: Callable[[URL], bool]
    ) -> None:
        super().__init__(http)
        self._allowed = allowed
        self.timing = Timing(0.0)
        """Of the last request."""
        self._jar = aiohttp.CookieJar(unsafe=True)  # a server may be known by its address alone
        self._session = aiohttp.ClientSession(
            connector=_TimedConnector(tls),
            cookie_jar=self._jar,
            headers={**OWN_HEADERS, **http.headers},
            timeout=aiohttp.ClientTimeout(None),
        )

    async def close(self) -> None:
        """Close every connection."""
        await self._session.close()

    def begin(self, limit: float, cookies: Sequence[Mapping[str, Any]]) -> None:
        super().begin(limit, cookies)
        self._jar.clear()
        for cookie in cookies:
            self._jar.update_cookies(SimpleCookie(cookie["text"]), URL(cookie["url"]))

    def cookies(self) -> list[dict[str, Any]]:
        return [
            {"text": each.OutputString(), "url": f"http://{each['domain']}{each['path'] or '/'}"}
            for each in self._jar
        ]

    async def send(self, call: Call, patience: Patience | None = None) -> Answer:
        patience = patience or self.patience
        place = f"{call.method} {call.url}"
        begun: list[Answer] = []
        self.timing = Timing(time.perf_counter())
        _timing.set(self.timing)
        try:
            async with asyncio.timeout(min(patience.connect, self.left())) as clock:
                self.timing.clock, self.timing.read = clock, min(patience.read, self.left())
                return await self._exchange(call, patience, begun)
        except TimeoutError:
            if self.left() < TICK:
                raise OutOfTime(f"no whole answer yet: {place}") from None
            words = too_late(patience, begun)
            if not self.timing.has_connection:
                words = f"no connection within {patience.connect:g} s"
            raise NoAnswer(f"{words}: {place}") from None
        except (aiohttp.ClientError, ValueError) as error:
            words = words_of_cause(error, self.http) or str(error) or type(error).__name__
            if isinstance(error, aiohttp.ClientPayloadError):
                words = "the server broke off: the body is not complete"
            elif isinstance(error, aiohttp.ServerDisconnectedError):
                words = "the server broke off: there is no answer"
            raise NoAnswer(f"{words}: {place}") from None
        finally:
            self.timing.ended = time.perf_counter()

    async def _exchange(self, call: Call, patience: Patience, begun: list[Answer]) -> Answer:
        """One exchange, redirects included. ``begun`` gets the answer when its headers are here."""
        asked, url = call, _url(call.url)
        hops: list[tuple[Call, Answer]] = []
        while True:
            if not self._allowed(url):
                raise NotAllowed(str(url))
            async with self._session.request(
                asked.method, url, headers=asked.headers, data=asked.content or None,
                allow_redirects=False, proxy=self.http.proxy or None,
            ) as response:  # fmt: skip
                self.timing.first_byte = time.perf_counter()
                asked.headers = dict(response.request_info.headers)
                answer = Answer(
                    response.status, response.headers, b"", 0.0, str(response.url),
                    _protocol(response), hops, None if asked is call else asked,
                )  # fmt: skip
                target = response.headers.get("Location", "")
                if response.status not in _REDIRECTS or not target or not self.http.redirects:
                    begun.append(answer)
                    await read_body(
                        response.content.iter_any(), answer, patience, self.http.body_limit
                    )
                    break
            hops.append((asked, answer))
            if len(hops) > self.http.redirects:
                raise NoAnswer(f"redirected more than {self.http.redirects} times")
            url = url.join(URL(target))
            asked = _redirected(asked, response.status, url)
        answer.seconds = time.perf_counter() - self.timing.began
        return answer


@lru_cache(maxsize=4096)
def _url(text: str) -> URL:
    """An address; the same ones are asked for again and again."""
    return URL(text, encoded=True)


def _protocol(response: aiohttp.ClientResponse) -> str:
    version = response.version
    return f"HTTP/{version.major}.{version.minor}" if version else ""


def _redirected(asked: Call, status: int, url: URL) -> Call:
    """The request that a redirect asks for (RFC 9110, section 15.4)."""
    changed = status == _SEE_OTHER or (status in _MAY_CHANGE and asked.method == "POST")
    headers = dict(asked.headers)
    if URL(asked.url).origin() != url.origin():  # who is asking is nobody else's business
        headers = {name: value for name, value in headers.items() if name.lower() not in _PRIVATE}
    headers.pop("Host", None)
    if not changed or asked.method == "HEAD":
        return Call(asked.method, str(url), headers, {}, {}, asked.body, asked.content)
    kept = {name: v for name, v in headers.items() if not name.lower().startswith("content-")}
    return Call("GET", str(url), kept, {}, {})
