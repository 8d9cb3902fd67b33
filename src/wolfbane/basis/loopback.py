"""Checks whether a host is this machine."""

from __future__ import annotations

import ipaddress


def is_loopback(host: str) -> bool:
    """Whether a host is this machine, through the loopback network (RFC 6761, section 6.3)."""
    if host == "localhost" or host.endswith(".localhost"):
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False
