"""How a suite's requests are sent: what its ``http`` settings say."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


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
