"""This machine: its processors, its free ports, and whether a host name means it."""

from __future__ import annotations

import ipaddress
import os
import socket
from collections.abc import Iterable
from contextlib import ExitStack


def is_loopback(host: str) -> bool:
    """Whether a host is this machine, through the loopback network (RFC 6761, section 6.3)."""
    if host == "localhost" or host.endswith(".localhost"):
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def free_ports(names: Iterable[str]) -> dict[str, int]:
    """A free loopback port for each name; all are different."""
    ports = {}
    with ExitStack() as held:
        for name in names:
            listener = held.enter_context(socket.socket())
            listener.bind(("127.0.0.1", 0))
            ports[name] = listener.getsockname()[1]
    return ports


def available_cores() -> int:
    """The processors that this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1
