"""Finds free TCP ports for services."""

from __future__ import annotations

import socket
from collections.abc import Iterable
from contextlib import ExitStack


def free_ports(names: Iterable[str]) -> dict[str, int]:
    """A free loopback port for each name; all are different."""
    ports = {}
    with ExitStack() as held:
        for name in names:
            place = held.enter_context(socket.socket())
            place.bind(("127.0.0.1", 0))
            ports[name] = place.getsockname()[1]
    return ports
