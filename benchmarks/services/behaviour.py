"""What a service does with one request."""

from __future__ import annotations

import gzip
import json
import random
import zlib
from typing import NamedTuple

FAULTS = ("drop", "reset", "truncate", "cut chunks", "garbage")
"""The behaviours without a whole response."""
KINDS = (
    "plain",
    "plain",
    "empty",
    "chunked",
    "gzip",
    "deflate",
    "slow",
    "stall",
    "status",
    "text",
    "large",
    "close",
    "closes later",
    "redirect",
    "hints",
    *FAULTS,
)


class Behaviour(NamedTuple):
    """The response to every request of one path.

    ``wait`` is in seconds, before the response or in the middle of its body. ``target`` is the path
    that a redirect names.
    """

    kind: str
    status: int
    body: bytes
    wait: float = 0.0
    target: str = ""

    @property
    def headers(self) -> dict[str, str]:
        """The headers of the response."""
        headers = {"Content-Type": "text/plain" if self.kind == "text" else "application/json"}
        if self.kind in ("chunked", "cut chunks"):
            headers["Transfer-Encoding"] = "chunked"
        elif self.status != 204:
            headers["Content-Length"] = str(len(self.wire))
        if self.kind in ("gzip", "deflate"):
            headers["Content-Encoding"] = self.kind
        if self.kind == "close":
            headers["Connection"] = "close"
        if self.target:
            headers["Location"] = self.target
        return headers

    @property
    def wire(self) -> bytes:
        """The body as it is sent, without the frames of chunks."""
        if self.kind == "gzip":
            return gzip.compress(self.body)
        return zlib.compress(self.body) if self.kind == "deflate" else self.body


def draw_behaviour(draw: random.Random, path: str) -> Behaviour:
    """A random behaviour for a path."""
    kind = draw.choice(KINDS)
    size = draw.randrange(200_000, 1_000_000) if kind == "large" else draw.randrange(1, 3000)
    body = json.dumps({"log": "x" * size}).encode()
    status, wait, target = 200, 0.0, ""
    if kind == "empty":
        status, body = 204, b""
    elif kind == "status":
        status = draw.choice((400, 404, 409, 422, 500, 502, 503))
    elif kind == "redirect":
        status, target = draw.choice((301, 302, 303, 307, 308)), f"/landed{path}"
    elif kind in ("slow", "stall"):
        wait = draw.uniform(0.005, 0.06)
    return Behaviour(kind, status, body, wait, target)
