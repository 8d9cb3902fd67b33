"""The cookies of one workflow, independent of the HTTP library."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from email.message import Message
from http.cookiejar import Cookie, CookieJar
from typing import Any
from urllib.request import Request

_FIELDS = (
    "version",
    "name",
    "value",
    "port",
    "port_specified",
    "domain",
    "domain_specified",
    "domain_initial_dot",
    "path",
    "path_specified",
    "secure",
    "expires",
    "discard",
    "comment",
    "comment_url",
    "rfc2109",
)


class CookieStore:
    """Stores cookies from servers, and selects the cookies for a request (RFC 6265)."""

    def __init__(self) -> None:
        self._jar, self._has_some = CookieJar(), False

    def replace(self, cookies: Iterable[Mapping[str, Any]]) -> None:
        """Remove all cookies except these, in the form of :meth:`data`."""
        if self._has_some:
            self._jar, self._has_some = CookieJar(), False
        for cookie in cookies:
            self._has_some = True
            self._jar.set_cookie(Cookie(**cookie, rest={}))

    def data(self) -> list[dict[str, Any]]:
        """All of them, as JSON data."""
        return [{name: getattr(each, name) for name in _FIELDS} for each in self._jar]

    def add_to(self, headers: Mapping[str, str], url: str) -> Mapping[str, str]:
        """The headers with the cookies for a URL; a cookie that is already in them stays."""
        if not self._has_some:  # nearly always: to ask the jar takes longer
            return headers
        request = Request(url)
        self._jar.add_cookie_header(request)
        kept = request.get_header("Cookie")
        if not kept:
            return headers
        key = next((name for name in headers if name.lower() == "cookie"), "Cookie")
        own = [pair.strip() for pair in headers.get(key, "").split(";") if pair.strip()]
        names = {pair.partition("=")[0] for pair in own}
        more = [pair for pair in kept.split("; ") if pair.partition("=")[0] not in names]
        return {**headers, key: "; ".join([*own, *more])}

    def take(self, set_cookies: Sequence[str], url: str) -> None:
        """Store the cookies that a response to a request for a URL sets."""
        if set_cookies:
            self._has_some = True
            self._jar.extract_cookies(_CookieHeaders(set_cookies), Request(url))  # type: ignore[arg-type]


class _CookieHeaders:
    """The part of a response that the jar needs."""

    def __init__(self, set_cookies: Sequence[str]) -> None:
        self._headers = Message()
        for text in set_cookies:
            self._headers["Set-Cookie"] = text

    def info(self) -> Message:
        return self._headers
