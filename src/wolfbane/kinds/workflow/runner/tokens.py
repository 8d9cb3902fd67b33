"""Finds tokens in responses and reports them to Wolfbane, which masks them from then on."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from wolfbane.kinds.workflow.openapi import Operation
from wolfbane.kinds.workflow.runner.scope import Answer, Call

_GRANTED = ("access_token", "refresh_token", "id_token")
"""The response fields of an OAuth 2 grant (RFC 6749, section 5.1; OpenID Connect Core, 3.1.3.3)."""
_BEARER = (*_GRANTED, "token")
_SHORTEST = 6
_REFUSED = 400


class Tokens:
    """Finds them by the description's security schemes, and by the names in the settings."""

    def __init__(self, names: Collection[str], tell: Callable[[str], None]) -> None:
        self._names, self._tell = frozenset(map(_plain, names)), tell
        self._known: set[str] = set()

    def look_at(self, operation: Operation, call: Call, answer: Answer) -> None:
        """Report the tokens and credentials of an exchange."""
        components = operation.source.data.get("components", {})
        described = components.get("securitySchemes", {}).values()
        schemes = [operation.source.resolved(scheme) for scheme in described]
        names = {*self._names, *(_plain(n) for scheme in schemes for n in _fields(scheme))}
        for text in (*_in_body(answer, names), *_in_headers(answer, names, schemes)):
            self._learn(text)
        for text in _shown(call, schemes):
            self._learn(text)

    def _learn(self, text: str) -> None:
        if len(text) >= _SHORTEST and text not in self._known:
            self._known.add(text)
            self._tell(text)


def _plain(name: object) -> str:
    """A name in one form for several spellings: ``accessToken``, ``access-token``."""
    return re.sub(r"[^a-z0-9]", "", str(name).lower())


def _fields(scheme: Mapping[str, Any]) -> tuple[str, ...]:
    """The fields of a response that contain the values for a scheme."""
    kind = scheme.get("type")
    if kind in ("oauth2", "openIdConnect"):
        return _GRANTED
    if kind == "http" and str(scheme.get("scheme")).lower() == "bearer":
        return _BEARER
    if kind == "apiKey":
        return (str(scheme.get("name")),)
    return ()


def _shown(call: Call, schemes: Sequence[Mapping[str, Any]]) -> Iterator[str]:
    """The credentials of a request: in its headers, or in its URL."""
    keys = [(scheme.get("in"), str(scheme["name"])) for scheme in schemes if "name" in scheme]
    for header, value in call.headers.items():
        if header.lower() == "authorization":
            yield value.partition(" ")[2] or value
        elif any(
            location == "header" and name.lower() == header.lower() for location, name in keys
        ):
            yield value
    for name, value in parse_qsl(urlsplit(call.url).query):
        if ("query", name) in keys:
            yield value


def _in_body(answer: Answer, names: Collection[str]) -> Iterator[str]:
    if not names or "json" not in answer.media_type or answer.status >= _REFUSED:
        return  # a refusal has words in such fields, not tokens
    try:
        waiting = [json.loads(answer.content)]
    except (ValueError, RecursionError):
        return
    while waiting:
        value = waiting.pop()
        if isinstance(value, list):
            waiting += value
        elif isinstance(value, dict):
            for name, inner in value.items():
                if isinstance(inner, str) and _plain(name) in names:
                    yield inner
                waiting.append(inner)


def _in_headers(
    answer: Answer, names: Collection[str], schemes: Sequence[Mapping[str, Any]]
) -> Iterator[str]:
    cookies = {str(scheme["name"]) for scheme in schemes if scheme.get("in") == "cookie"}
    for header, value in answer.headers.items():
        if _plain(header) in names:
            yield value
        elif header.lower() == "set-cookie":
            for name, held in re.findall(r"(?:^|,\s*)([^=;,\s]+)=([^;,]*)", value):
                if name in cookies or _plain(name) in names:
                    yield held
