"""Readable JSON, and fast JSON for files that every run reads and writes."""

from __future__ import annotations

import json
from typing import Any

import msgspec


def readable(value: Any) -> bytes:
    """A document with two spaces of indentation and a line end, UTF-8."""
    return msgspec.json.format(msgspec.json.encode(value), indent=2) + b"\n"


def compact(value: Any) -> str:
    """A document on one line. Surrogates, which UTF-8 cannot encode, are written as escapes."""
    try:
        return msgspec.json.encode(value).decode()
    except UnicodeEncodeError:
        return json.dumps(value, separators=(",", ":"))


def parsed(text: bytes) -> Any:
    """The data that :func:`compact` wrote. Raises ValueError."""
    try:
        return msgspec.json.decode(text)
    except (msgspec.DecodeError, ValueError):
        return json.loads(text)
