"""How a suite's requests are sent: what its ``http`` settings say, with values in their places."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

_HOLE = re.compile(r"\{\{|\}\}|\{([\w.-]+)\}")


@dataclass(frozen=True)
class Http:
    """Times are in seconds, ``largest`` in bytes; ``checks`` are the contract checks in force."""

    base_url: str = ""
    security: Mapping[str, Any] = field(default_factory=dict)
    verify: bool | str = True
    certificate: str = ""
    key: str = ""
    proxy: str = ""
    connect: float = 5.0
    read: float = 30.0
    redirects: int = 10
    checks: frozenset[str] = frozenset(("status", "type", "headers", "body"))
    largest: int = 32 << 20


def filled(given: Any, values: Mapping[str, Any]) -> Any:
    """Settings with parameters in the place of ``{name}``, however deep. Raises KeyError."""
    if isinstance(given, str):
        return _HOLE.sub(lambda hole: _text(values[hole[1]]) if hole[1] else hole[0][0], given)
    if isinstance(given, list):
        return [filled(item, values) for item in given]
    if isinstance(given, Mapping):
        return {key: filled(item, values) for key, item in given.items()}
    return given


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return ",".join(value) if isinstance(value, list) else str(value)


def flat(values: Mapping[str, Any], prefix: str = "") -> dict[str, Any]:
    """Nested values by dotted name."""
    found: dict[str, Any] = {}
    for name, value in values.items():
        if isinstance(value, Mapping):
            found |= flat(value, f"{prefix}{name}.")
        else:
            found[prefix + name] = value
    return found
