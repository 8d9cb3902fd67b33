"""Send the requests of a plain run: one connection pool for a suite, HTTP/2 where it is spoken."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Mapping, Sequence
from http.cookiejar import Cookie
from typing import Any

import httpx

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
from wolfbane.kinds.workflow.runner.tls import TlsContext, tls_context

_COOKIE = (
    "version", "name", "value", "port", "port_specified", "domain", "domain_specified",
    "domain_initial_dot", "path", "path_specified", "secure", "expires", "discard", "comment",
    "comment_url", "rfc2109",
)  # fmt: skip


class HttpxSender(Sender):
    """One connection pool for a suite; cookies are kept for one workflow at a time."""

    def __init__(self, http: HttpOptions) -> None:
        super().__init__(http)
        self._client = httpx.AsyncClient(
            verify=tls_context(http, TlsContext),
            http2=True,
            proxy=http.proxy or None,
            follow_redirects=http.redirects > 0,
            max_redirects=max(http.redirects, 1),
            headers={**OWN_HEADERS, **http.headers},
        )

    def begin(self, limit: float, cookies: Sequence[Mapping[str, Any]]) -> None:
        super().begin(limit, cookies)
        self._client.cookies.clear()
        for cookie in cookies:
            self._client.cookies.jar.set_cookie(Cookie(**cookie, rest={}))

    def cookies(self) -> list[dict[str, Any]]:
        return [
            {name: getattr(each, name) for name in _COOKIE} for each in self._client.cookies.jar
        ]

    async def send(self, call: Call, patience: Patience | None = None) -> Answer:
        patience = patience or self.patience
        place = f"{call.method} {call.url}"
        begun: list[Answer] = []
        try:
            async with asyncio.timeout(min(patience.connect + patience.read, self.left())) as clock:
                return await self._exchange(call, patience, clock, begun)
        except TimeoutError:
            if self.left() < TICK:
                raise OutOfTime(f"no whole answer yet: {place}") from None
            raise NoAnswer(f"{too_late(patience, begun)}: {place}") from None
        except httpx.TooManyRedirects:
            raise NoAnswer(f"redirected more than {self.http.redirects} times") from None
        except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
            raise NoAnswer(f"{_words(error, self.http, patience)}: {place}") from None

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
            await read_body(response.aiter_bytes(), answer, patience, self.http.body_limit)
        finally:
            await response.aclose()
        answer.seconds = time.perf_counter() - began
        return answer


def _words(error: Exception, http: HttpOptions, patience: Patience) -> str:
    if words := words_of_cause(error, http):
        return words
    if isinstance(error, httpx.ConnectTimeout):
        return f"no connection within {patience.connect:g} s"
    if isinstance(error, httpx.TimeoutException):
        return f"no answer within {patience.read:g} s"
    if isinstance(error, httpx.RemoteProtocolError | httpx.ReadError | httpx.WriteError):
        return f"the server broke off: {error}".removesuffix(": ")
    if isinstance(error, httpx.DecodingError):
        return f"the body's encoding is broken: {error}"
    return str(error) or type(error).__name__


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
