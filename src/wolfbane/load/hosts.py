"""A load goes only where it is allowed: to this machine, and to hosts that an environment names."""

from __future__ import annotations

from collections.abc import Collection
from urllib.parse import urlsplit

from wolfbane.errors import InputError, Problem
from wolfbane.loopback import is_loopback


def check_hosts(
    addresses: Collection[str], allowed: Collection[str], environment: str
) -> list[str]:
    """The hosts that requests go to. Raises InputError for one that no load may go to."""
    hosts = list(dict.fromkeys(urlsplit(address).hostname or "" for address in addresses))
    refused = [host for host in hosts if not is_loopback(host) and host not in allowed]
    if refused:
        where = f"[env.{environment}]" if environment else "[env.NAME]"
        raise InputError(*(
            Problem(
                f"no load may go to {host}",
                hint=f"if it may, name it in {where} and write 'load = true' there",
            )
            for host in refused
        ))  # fmt: skip
    return [*dict.fromkeys([*hosts, *allowed])]
