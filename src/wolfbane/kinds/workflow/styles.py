"""The forms of parameter values: ``style`` and ``explode`` of OpenAPI 3 (RFC 6570)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

_RESERVED = ":/?#[]@!$&'()*+,;="
DEFAULTS = {"path": "simple", "header": "simple", "query": "form", "cookie": "form"}
_DELIMITERS = {"form": ",", "spaceDelimited": "%20", "pipeDelimited": "%7C"}


def plain(value: Any) -> str:
    """A single value as text: ``true``, ``3``, empty for null."""
    if isinstance(value, bool):
        if value:
            return "true"
        return "false"
    if value is None:
        return ""
    return str(value)


def style_of(parameter: Mapping[str, Any]) -> tuple[str, bool]:
    """The effective style and explode; by default, the standard's values."""
    style = str(parameter.get("style", DEFAULTS[parameter["in"]]))
    return style, bool(parameter.get("explode", style == "form"))


def in_path(name: str, value: Any, style: str, *, explode: bool) -> str:
    """The text that replaces ``{name}`` in a path: simple, label or matrix."""
    if style == "matrix":
        if isinstance(value, Mapping) and explode:
            return "".join(f";{_safe(k)}={_safe(v)}" for k, v in value.items())
        if isinstance(value, list) and explode:
            return "".join(f";{_safe(name)}={_safe(item)}" for item in value)
        return f";{_safe(name)}={_joined(value, ',', explode=False)}"
    if style == "label":
        return "." + _joined(value, "." if explode else ",", explode=explode)
    return _joined(value, ",", explode=explode)


def in_header(value: Any, *, explode: bool) -> str:
    """The text of a header: always simple, and not percent-encoded."""
    if isinstance(value, list):
        return ",".join(map(plain, value))
    if isinstance(value, Mapping):
        sign = ","
        if explode:
            sign = "="
        return ",".join(f"{key}{sign}{plain(item)}" for key, item in value.items())
    return plain(value)


def in_query(
    name: str, value: Any, style: str, *, explode: bool, allow_reserved: bool = False
) -> str:
    """``name=value`` pairs joined by ``&``: form, spaceDelimited, pipeDelimited, deepObject."""
    safe = ""
    if allow_reserved:
        safe = _RESERVED

    def enc(item: Any) -> str:
        return quote(plain(item), safe=safe)

    if isinstance(value, Mapping):
        if style == "deepObject":
            return "&".join(f"{enc(name)}%5B{enc(k)}%5D={enc(v)}" for k, v in value.items())
        if explode:
            return "&".join(f"{enc(k)}={enc(v)}" for k, v in value.items())
        value = [part for pair in value.items() for part in pair]
    if isinstance(value, list):
        if explode:
            return "&".join(f"{enc(name)}={enc(item)}" for item in value)
        return f"{enc(name)}={_DELIMITERS.get(style, ',').join(map(enc, value))}"
    return f"{enc(name)}={enc(value)}"


def in_cookie(name: str, value: Any, *, explode: bool) -> str:
    """``name=value`` pairs joined by ``; ``: always form."""
    return "; ".join(in_query(name, value, "form", explode=explode).split("&"))


def _safe(value: Any) -> str:
    return quote(plain(value), safe="")


def _joined(value: Any, sign: str, *, explode: bool) -> str:
    if isinstance(value, Mapping):
        if explode:
            return sign.join(f"{_safe(key)}={_safe(item)}" for key, item in value.items())
        return sign.join(_safe(part) for pair in value.items() for part in pair)
    if isinstance(value, list):
        return sign.join(map(_safe, value))
    return _safe(value)
