"""Send requests within limits of time and size, whatever the server does."""

from __future__ import annotations

import ssl
import time
from typing import Any

import httpx

from wolfbane.workers.api.scope import Answer, Call
from wolfbane.workers.api.settings import Http


class NoAnswer(Exception):
    """A request that got no whole answer; the text says why."""


class Sender:
    """One connection pool for a suite; cookies are kept for one workflow at a time."""

    def __init__(self, http: Http) -> None:
        self.http = http
        self._client = httpx.Client(
            verify=_tls(http),
            http2=True,
            proxy=http.proxy or None,
            timeout=httpx.Timeout(http.read, connect=http.connect),
            follow_redirects=http.redirects > 0,
            max_redirects=max(http.redirects, 1),
            headers={"User-Agent": "wolfbane", "Accept": "*/*"},
        )

    def forget(self) -> None:
        """Begin a workflow: without the cookies of the one before."""
        self._client.cookies.clear()

    def send(self, call: Call) -> Answer:
        """The whole answer. Raises NoAnswer."""
        began = time.perf_counter()
        try:
            request = self._client.build_request(
                call.method, call.url, headers=call.headers, content=call.content or None
            )
            call.headers = dict(request.headers.items())
            response = self._client.send(request, stream=True)
            try:
                content = self._content(response, began + self.http.read)
            finally:
                response.close()
        except httpx.TooManyRedirects:
            raise NoAnswer(f"redirected more than {self.http.redirects} times") from None
        except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
            raise NoAnswer(f"{_words(error, self.http)}: {call.method} {call.url}") from None
        seconds = time.perf_counter() - began
        return Answer(
            response.status_code, response.headers, content, seconds, str(response.url),
            response.http_version,
        )  # fmt: skip

    def _content(self, response: httpx.Response, end: float) -> bytes:
        """The body: not more than the limit of size, not longer than the limit of time."""
        chunks, size = [], 0
        for chunk in response.iter_bytes():
            chunks.append(chunk)
            size += len(chunk)
            if size > self.http.largest:
                raise NoAnswer(f"the body is longer than {self.http.largest:,} bytes")
            if time.perf_counter() > end:
                raise NoAnswer(f"the body was not there within {self.http.read:g} s")
        return b"".join(chunks)


def _tls(http: Http) -> Any:
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


def _words(error: Exception, http: Http) -> str:
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ConnectionRefusedError):
            return "connection refused"
        wanted = isinstance(cause, ssl.SSLError) and "CERTIFICATE_REQUIRED" in str(cause)
        if wanted or isinstance(cause, ssl.SSLEOFError):
            own = "with" if http.certificate else "without"
            return f"the server ended the TLS connection, {own} a client's certificate"
        cause = cause.__cause__ or cause.__context__
    if isinstance(error, httpx.ConnectTimeout):
        return f"no connection within {http.connect:g} s"
    if isinstance(error, httpx.TimeoutException):
        return f"no answer within {http.read:g} s"
    if isinstance(error, httpx.RemoteProtocolError):
        return f"the server broke off: {error}"
    if isinstance(error, httpx.DecodingError):
        return f"the body's encoding is broken: {error}"
    return str(error) or type(error).__name__
