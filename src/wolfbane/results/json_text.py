"""Records as JSON that people can read."""

from __future__ import annotations

from typing import Any

import msgspec


def readable(value: Any) -> bytes:
    """A document with two spaces of indentation and a line's end, UTF-8."""
    return msgspec.json.format(msgspec.json.encode(value), indent=2) + b"\n"
