"""Sends requests with aiohttp and measures each phase, for addresses without TLS and for load
tests.

aiohttp handles many times more requests per second of processor time than httpx.
"""

from __future__ import annotations

import asyncio
import ssl
import time
from collections.abc import AsyncIterator, Mapping
from contextvars import ContextVar
from functools import lru_cache
from typing import Any
from urllib.request import getproxies, proxy_bypass

import aiohttp
from aiohttp.http_exceptions import ContentEncodingError
from multidict import CIMultiDict, CIMultiDictProxy
from yarl import URL

from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.settings import HttpOptions
from wolfbane.kinds.workflow.runner.tls import TlsContext
from wolfbane.kinds.workflow.runner.transport import (
    OWN_HEADERS,
    Exchange,
    Timing,
    Transport,
    TransportError,
)

_timing: ContextVar[Timing] = ContextVar("timing")


class TimedContext(TlsContext):
    """Records the start of a connection's TLS handshake, which asyncio starts at this point."""

    def wrap_bio(self, *args: Any, **kwargs: Any) -> ssl.SSLObject:
        if timing := _timing.get(None):
            timing.tls = time.perf_counter()
        return super().wrap_bio(*args, **kwargs)


class _TimedConnector(aiohttp.TCPConnector):
    """Records how long a new connection took. aiohttp's own tracing is too slow."""

    def __init__(self, tls: ssl.SSLContext) -> None:
        super().__init__(ssl=tls, limit=0)

    async def _create_connection(
        self, req: aiohttp.ClientRequest, traces: list[Any], timeout: aiohttp.ClientTimeout
    ) -> Any:
        """A new connection: this is not called if a connection is reused."""
        timing = _timing.get()
        timing.connecting()
        timing.tls = 0.0  # after a redirect it is how long the handshake before took
        began = time.perf_counter()
        protocol = await super()._create_connection(req, traces, timeout)
        now = time.perf_counter()
        wrapped = timing.tls or now
        timing.connect, timing.tls = wrapped - began, now - wrapped
        timing.connected()
        return protocol


class AiohttpTransport(Transport):
    """The connections of one user, or of one suite. It does not handle redirects and cookies."""

    def __init__(self, http: HttpOptions, tls: ssl.SSLContext) -> None:
        self._http, self._tls = http, tls
        self._session: aiohttp.ClientSession | None = None

    async def start(self, call: Call, url: URL, timing: Timing) -> Exchange:
        _timing.set(timing)
        # A server may have just closed a kept connection: let the loop see that before its use.
        await asyncio.sleep(0)
        session = self._session or self._open()
        try:
            response = await session.request(
                call.method,
                url,
                headers=call.headers,
                data=call.content or None,
                allow_redirects=False,
                proxy=self._http.proxy or _proxy(url.scheme, url.host or ""),
            )
        except aiohttp.ClientError as error:
            raise TransportError(_words(error)) from error
        timing.answered()
        call.headers = dict(response.request_info.headers)
        return _AiohttpExchange(response, call.url)

    def _open(self) -> aiohttp.ClientSession:
        self._session = aiohttp.ClientSession(
            connector=_TimedConnector(self._tls),
            cookie_jar=aiohttp.DummyCookieJar(),
            headers={**OWN_HEADERS, **self._http.headers},
            skip_auto_headers=("Content-Type",),
            timeout=aiohttp.ClientTimeout(None),
        )
        # It sends requests of some methods again if a kept connection breaks. That would hide a
        # server that drops them, and no public option turns it off.
        self._session._retry_connection = False
        return self._session

    async def close(self) -> None:
        if self._session is not None:
            await self._session.close()


class _AiohttpExchange(Exchange):
    def __init__(self, response: aiohttp.ClientResponse, url: str) -> None:
        self._response = response
        self.answer = Answer(
            status=response.status,
            headers=_combined(response.headers),
            content=b"",
            seconds=0.0,
            url=url,
            http=_protocol(response.version),
        )
        self.set_cookies = response.headers.getall("Set-Cookie", [])
        self.location = response.headers.get("Location", "")

    async def chunks(self) -> AsyncIterator[bytes]:
        try:
            while chunk := await self._response.content.readany():
                yield chunk
        except aiohttp.ClientError as error:
            raise TransportError(_words(error)) from error

    def wire(self) -> int:
        # Older releases of aiohttp do not count the bytes of a compressed body.
        return getattr(self._response.content, "total_raw_bytes", -1)

    async def close(self) -> None:
        self._response.release()
        await self._response.wait_for_close()


def _combined(headers: CIMultiDictProxy[str]) -> Mapping[str, str]:
    """The headers, with one value for each name (RFC 9110, section 5.3)."""
    if len(set(map(str.lower, headers))) == len(headers):
        return headers
    return CIMultiDict({name: ", ".join(headers.getall(name)) for name in headers})


@lru_cache
def _protocol(version: aiohttp.HttpVersion | None) -> str:
    if version:
        return f"HTTP/{version.major}.{version.minor}"
    return ""


@lru_cache(maxsize=4096)
def _proxy(scheme: str, host: str) -> str | None:
    """The proxy in the environment variables for a host, if any."""
    proxies = getproxies()
    proxy = proxies.get(scheme) or proxies.get("all")
    if not proxy or proxy_bypass(host):
        return None
    if "://" in proxy:
        return proxy
    return f"http://{proxy}"


def _words(error: Exception) -> str:
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ContentEncodingError):
            return f"cannot decode the body: {cause.message}"
        cause = cause.__cause__
    if isinstance(error, aiohttp.ClientPayloadError):
        return "the server closed the connection before the body was complete"
    if isinstance(error, aiohttp.ServerDisconnectedError):
        return "the server closed the connection without a response"
    return str(error) or type(error).__name__
