"""Sends requests with httpx, which supports HTTP/2, for addresses with TLS in normal runs."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping
from typing import Any

import httpx
from yarl import URL

from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.settings import HttpOptions
from wolfbane.kinds.workflow.runner.tls import TlsContext, tls_context
from wolfbane.kinds.workflow.runner.transport import (
    OWN_HEADERS,
    Exchange,
    Timing,
    Transport,
    TransportError,
)


class HttpxTransport(Transport):
    """One connection pool. It does not handle redirects and cookies."""

    def __init__(self, http: HttpOptions) -> None:
        self._client = httpx.AsyncClient(
            verify=tls_context(http, TlsContext),
            http2=True,
            proxy=http.proxy or None,
            headers={**OWN_HEADERS, **http.headers},
            timeout=None,
        )

    async def start(self, call: Call, url: URL, timing: Timing) -> Exchange:
        async def connected(event: str, _: Mapping[str, Any]) -> None:
            if event.endswith("send_request_headers.started"):
                timing.connected()

        timing.connecting()
        try:
            request = self._client.build_request(
                call.method,
                str(url),
                headers=call.headers,
                content=call.content or None,
                extensions={"trace": connected},
            )
            call.headers = dict(request.headers.items())
            response = await self._client.send(request, stream=True)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise TransportError(_words(error)) from error
        finally:
            self._client.cookies.clear()  # the workflow keeps them
        timing.answered()
        return _HttpxExchange(response)

    async def close(self) -> None:
        await self._client.aclose()


class _HttpxExchange(Exchange):
    def __init__(self, response: httpx.Response) -> None:
        self._response = response
        self.answer = Answer(
            status=response.status_code,
            headers=response.headers,
            content=b"",
            seconds=0.0,
            url=str(response.url),
            http=response.http_version,
        )
        self.set_cookies = response.headers.get_list("Set-Cookie")
        self.location = response.headers.get("Location", "")

    async def chunks(self) -> AsyncIterator[bytes]:
        try:
            async for chunk in self._response.aiter_bytes():
                yield chunk
        except httpx.HTTPError as error:
            raise TransportError(_words(error)) from error

    def wire(self) -> int:
        return self._response.num_bytes_downloaded

    async def close(self) -> None:
        await self._response.aclose()


def _words(error: Exception) -> str:
    if isinstance(error, httpx.RemoteProtocolError | httpx.ReadError | httpx.WriteError):
        return f"the server closed the connection: {error}".removesuffix(": ")
    if isinstance(error, httpx.DecodingError):
        return f"cannot decode the body: {error}"
    return str(error) or type(error).__name__
