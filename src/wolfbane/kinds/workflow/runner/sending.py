"""Send requests within limits of time and size, whatever the server does."""

from __future__ import annotations

import asyncio
import ssl
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from http.cookiejar import Cookie
from typing import Any

import httpx

from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.settings import HttpOptions

_COOKIE = (
    "version", "name", "value", "port", "port_specified", "domain", "domain_specified",
    "domain_initial_dot", "path", "path_specified", "secure", "expires", "discard", "comment",
    "comment_url", "rfc2109",
)  # fmt: skip
_TICK = 0.01
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


class Sender:
    """One connection pool for a suite; cookies are kept for one workflow at a time."""

    def __init__(self, http: HttpOptions) -> None:
        self.http = http
        self._deadline = float("inf")
        self._loop = asyncio.new_event_loop()
        self._client = httpx.AsyncClient(
            verify=_tls(http),
            http2=True,
            proxy=http.proxy or None,
            follow_redirects=http.redirects > 0,
            max_redirects=max(http.redirects, 1),
            headers={"User-Agent": "wolfbane", "Accept": "*/*", **http.headers},
        )

    def begin(self, limit: float, cookies: Sequence[Mapping[str, Any]]) -> None:
        """Begin a test of ``limit`` seconds, with the cookies of those that it depends on alone."""
        self._deadline = time.monotonic() + limit
        self._client.cookies.clear()
        for cookie in cookies:
            self._client.cookies.jar.set_cookie(Cookie(**cookie, rest={}))

    def cookies(self) -> list[dict[str, Any]]:
        """The cookies as they are now."""
        return [
            {name: getattr(each, name) for name in _COOKIE} for each in self._client.cookies.jar
        ]

    def left(self) -> float:
        """Seconds until the time of the test is over, none below zero."""
        return max(self._deadline - time.monotonic(), 0.0)

    def pause(self, seconds: float) -> None:
        """Wait. Raises OutOfTime where the test's time ends before."""
        left = self.left()
        time.sleep(min(seconds, left))
        if seconds > left:
            raise OutOfTime(f"during a pause of {seconds:g} s before a retry")

    def send(self, call: Call, patience: Patience | None = None) -> Answer:
        """The whole answer, or as much of it as is waited for. Raises NoAnswer or OutOfTime."""
        patience = patience or Patience(self.http.connect, self.http.read)
        return self._loop.run_until_complete(self._send(call, patience))

    async def _send(self, call: Call, patience: Patience) -> Answer:
        place = f"{call.method} {call.url}"
        begun: list[Answer] = []
        try:
            async with asyncio.timeout(min(patience.connect + patience.read, self.left())) as clock:
                return await self._exchange(call, patience, clock, begun)
        except TimeoutError:
            if self.left() < _TICK:
                raise OutOfTime(f"no whole answer yet: {place}") from None
            raise NoAnswer(f"{_too_late(patience, begun)}: {place}") from None
        except httpx.TooManyRedirects:
            raise NoAnswer(f"redirected more than {self.http.redirects} times") from None
        except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
            raise NoAnswer(f"{self._words(error, patience)}: {place}") from None

    async def _exchange(
        self, call: Call, patience: Patience, clock: asyncio.Timeout, begun: list[Answer]
    ) -> Answer:
        """One exchange, redirects included. ``begun`` gets the answer when its headers are here."""
        began, sent = time.perf_counter(), False

        async def connected(event: str, told: Mapping[str, Any]) -> None:
            nonlocal sent
            if event.endswith("send_request_headers.started") and not sent:
                sent = True
                allowed = min(patience.read, self.left())
                clock.reschedule(asyncio.get_running_loop().time() + allowed)

        request = self._client.build_request(
            call.method, call.url, headers=call.headers, content=call.content or None,
            timeout=httpx.Timeout(patience.read, connect=patience.connect),
            extensions={"trace": connected},
        )  # fmt: skip
        call.headers = dict(request.headers.items())
        response = await self._client.send(request, stream=True)
        answer = Answer(
            response.status_code, response.headers, b"", 0.0, str(response.url),
            response.http_version, hops=[_hop(each) for each in response.history],
            asked=_asked(response.request),
        )  # fmt: skip
        begun.append(answer)
        try:
            await self._read(response, answer, patience)
        finally:
            await response.aclose()
        answer.seconds = time.perf_counter() - began
        return answer

    async def _read(self, response: httpx.Response, answer: Answer, patience: Patience) -> None:
        """The body: not more than the limit of size, nor more than is waited for."""
        chunks, size, limit = [], 0, self.http.body_limit
        async for chunk in response.aiter_bytes():
            chunks.append(chunk)
            size += len(chunk)
            if size > limit:
                raise NoAnswer(f"the body is longer than {limit:,} bytes (body_limit)")
            if patience.until is not None:
                answer.replace_content(b"".join(chunks))
                if patience.until(answer):
                    return
        answer.replace_content(b"".join(chunks))
        answer.reached = patience.until is None

    def _words(self, error: Exception, patience: Patience) -> str:
        cause: BaseException | None = error
        while cause is not None:
            if isinstance(cause, ConnectionRefusedError):
                return "connection refused"
            wanted = isinstance(cause, ssl.SSLError) and "CERTIFICATE_REQUIRED" in str(cause)
            if wanted or isinstance(cause, ssl.SSLEOFError):
                own = "with" if self.http.certificate else "without"
                return f"the server ended the TLS connection, {own} a client's certificate"
            cause = cause.__cause__ or cause.__context__
        if isinstance(error, httpx.ConnectTimeout):
            return f"no connection within {patience.connect:g} s"
        if isinstance(error, httpx.TimeoutException):
            return f"no answer within {patience.read:g} s"
        if isinstance(error, httpx.RemoteProtocolError | httpx.ReadError | httpx.WriteError):
            return f"the server broke off: {error}".removesuffix(": ")
        if isinstance(error, httpx.DecodingError):
            return f"the body's encoding is broken: {error}"
        return str(error) or type(error).__name__


def _too_late(patience: Patience, begun: list[Answer]) -> str:
    if not begun:
        return f"no answer within {patience.read:g} s"
    if patience.until is not None:
        return f"x-until did not hold within {patience.read:g} s"
    return f"the body was not there within {patience.read:g} s"


def _hop(response: httpx.Response) -> tuple[Call, Answer]:
    """A redirect on the way: what was asked there, and what it answered."""
    answer = Answer(
        response.status_code, response.headers, b"", response.elapsed.total_seconds(),
        str(response.url), response.http_version,
    )  # fmt: skip
    return _asked(response.request), answer


def _asked(request: httpx.Request) -> Call:
    content = b"".join(request.stream) if isinstance(request.stream, httpx.ByteStream) else b""
    headers = dict(request.headers.items())
    return Call(request.method, str(request.url), headers, {}, {}, content=content)


def _tls(http: HttpOptions) -> Any:
    if http.verify is False:
        context = ssl.create_default_context()
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    elif isinstance(http.verify, str):
        context = ssl.create_default_context(cafile=http.verify)
    else:
        context = ssl.create_default_context()
    if http.certificate:
        context.load_cert_chain(http.certificate, http.key or None)
    return context
