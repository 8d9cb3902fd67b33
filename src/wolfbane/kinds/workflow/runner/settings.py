"""The ``http`` settings of a suite: how its requests are sent."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from wolfbane.kinds.workflow.extensions import CHECKS


@dataclass(frozen=True)
class HttpOptions:
    """Times are in seconds, ``body_limit`` in bytes; ``contract`` lists the active checks."""

    base_url: str = ""
    headers: Mapping[str, str] = field(default_factory=dict)
    security: Mapping[str, Any] = field(default_factory=dict)
    verify: bool | str = True
    certificate: str = ""
    key: str = ""
    proxy: str = ""
    connect: float = 5.0
    read: float = 30.0
    redirects: int = 10
    body_limit: int = 32 << 20
    contract: tuple[str, ...] = CHECKS
