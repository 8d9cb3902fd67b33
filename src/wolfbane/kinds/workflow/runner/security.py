"""Adds credentials to requests: apiKey, basic, bearer, and client credentials of OAuth 2 (RFC
6749).
"""

from __future__ import annotations

import asyncio
import base64
import json
import time
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, urlencode, urljoin

from wolfbane.kinds.workflow.openapi import Operation
from wolfbane.kinds.workflow.runner.bodies import CannotCall
from wolfbane.kinds.workflow.runner.calls import base_url
from wolfbane.kinds.workflow.runner.scope import Call
from wolfbane.kinds.workflow.runner.sending import NoAnswer, Sender

_EARLY = 30.0


class Security:
    """Adds the credentials that each operation requires, from the suite's ``http.security``."""

    def __init__(self, given: Mapping[str, Any], sender: Sender, base: str) -> None:
        self._given, self._sender, self._base = given, sender, base
        self._tokens: dict[tuple[str, str], tuple[str, float]] = {}
        self._asking = asyncio.Lock()

    async def put_on(self, call: Call, operation: Operation) -> None:
        """Use the first alternative with all values given. Raises CannotCall.

        Values that the workflow itself sets are kept. If no alternative has values, the request is
        sent unchanged, because its rejection may be the test.
        """
        schemes = operation.source.data.get("components", {}).get("securitySchemes", {})
        entries = (operation.source.resolved(entry) for entry in schemes.values())
        call.private = frozenset(
            str(entry["name"]).lower()
            for entry in entries
            if (entry.get("type"), entry.get("in")) == ("apiKey", "header") and "name" in entry
        )
        for alternative in operation.security:
            known = {name: operation.source.resolved(schemes.get(name, {})) for name in alternative}
            if all(name in self._given or _needs_nothing(s) for name, s in known.items()):
                for name, scheme in known.items():
                    await self._put(call, operation, name, scheme=scheme, scopes=alternative[name])
                return

    async def _put(
        self,
        call: Call,
        operation: Operation,
        name: str,
        scheme: Mapping[str, Any],
        scopes: list[str],
    ) -> None:
        kind = scheme.get("type")
        given = self._given.get(name)
        if kind == "apiKey":
            self._key(call, scheme, str(given))
        elif kind == "http" and str(scheme.get("scheme")).lower() == "basic":
            user, password = _pair(name, given, "user", second="password")
            text = base64.b64encode(f"{user}:{password}".encode()).decode()
            _set(call, "Authorization", f"Basic {text}")
        elif kind == "http":
            word = str(scheme.get("scheme", "bearer")).capitalize()
            _set(call, "Authorization", f"{word} {given}")
        elif kind in ("oauth2", "openIdConnect"):
            token = given
            if isinstance(given, Mapping):
                async with self._asking:  # many users may need the first one at once
                    token = await self._granted(operation, name, scheme, given=given, scopes=scopes)
            _set(call, "Authorization", f"Bearer {token}")

    @staticmethod
    def _key(call: Call, scheme: Mapping[str, Any], value: str) -> None:
        name = str(scheme["name"])
        if scheme["in"] == "header":
            _set(call, name, value)
        elif scheme["in"] == "query":
            sign = "?"
            if "?" in call.url:
                sign = "&"
            call.url += f"{sign}{quote(name, safe='')}={quote(value, safe='')}"
        else:
            pair = f"{name}={quote(value, safe='')}"
            before = call.headers.get("Cookie")
            call.headers["Cookie"] = f"{before}; {pair}" if before else pair

    async def _granted(
        self,
        operation: Operation,
        name: str,
        scheme: Mapping[str, Any],
        given: Mapping[str, Any],
        scopes: list[str],
    ) -> str:
        """A token by client credentials (RFC 6749, section 4.4), reused until shortly before its
        end.
        """
        flow = scheme.get("flows", {}).get("clientCredentials")
        if flow is None:
            message = f"security scheme '{name}' has no client credentials flow"
            raise CannotCall(f"{message}; set a token instead")
        scope = " ".join(scopes)
        token, until = self._tokens.get((name, scope), ("", 0.0))
        if token and time.monotonic() < until:
            return token
        url = urljoin(f"{base_url(operation, self._base)}/", str(flow["tokenUrl"]))
        ask = _token_request(url, *_pair(name, given, "client_id", second="client_secret"), scope)
        try:
            answer = await self._sender.send(ask)
            data = json.loads(answer.content)
            token = str(data["access_token"])
        except (NoAnswer, ValueError, KeyError, TypeError, RecursionError) as error:
            raise CannotCall(
                f"security scheme '{name}': cannot get a token from {url}: {error}"
            ) from None
        self._tokens[name, scope] = (
            token,
            time.monotonic() + float(data.get("expires_in", 3600)) - _EARLY,
        )
        return token


def _needs_nothing(scheme: Mapping[str, Any]) -> bool:
    return scheme.get("type") == "mutualTLS"  # the certificate is the suite's, for all requests


def _set(call: Call, name: str, value: str) -> None:
    if not any(header.lower() == name.lower() for header in call.headers):
        call.headers[name] = value


def _pair(name: str, given: Any, first: str, second: str) -> tuple[str, str]:
    if not isinstance(given, Mapping) or first not in given or second not in given:
        raise CannotCall(f"security scheme '{name}' needs {{ {first} = ..., {second} = ... }}")
    return str(given[first]), str(given[second])


def _token_request(url: str, client: str, secret: str, scope: str) -> Call:
    """A request by client credentials (RFC 6749, section 4.4.2)."""
    pair = f"{quote(client, safe='')}:{quote(secret, safe='')}"
    headers = {
        "Content-Type": "application/x-www-form-urlencoded",
        "Authorization": f"Basic {base64.b64encode(pair.encode()).decode()}",
    }
    form = {"grant_type": "client_credentials", **({"scope": scope} if scope else {})}
    content = urlencode(form).encode()
    return Call(
        method="POST", url=url, headers=headers, query={}, path={}, body=form, content=content
    )
