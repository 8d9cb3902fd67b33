"""Restricts a load test to this machine and to the hosts that an environment allows."""

from __future__ import annotations

from collections.abc import Collection
from urllib.parse import urlsplit

from wolfbane.basis.this_machine import is_loopback
from wolfbane.errors import InputError, Problem


def check_hosts(
    addresses: Collection[str], allowed: Collection[str], environment: str
) -> list[str]:
    """The hosts of the requests. Raises InputError for a host that load tests must not use."""
    hosts = list(dict.fromkeys(urlsplit(address).hostname or "" for address in addresses))
    refused = [host for host in hosts if not is_loopback(host) and host not in allowed]
    if refused:
        where = "[env.NAME]"
        if environment:
            where = f"[env.{environment}]"
        raise InputError(
            *(
                Problem(
                    f"load tests against {host} are not allowed",
                    hint=f"if load tests may use this host, "
                    f"add it to {where} and set 'load = true' there",
                )
                for host in refused
            )
        )
    return [*dict.fromkeys([*hosts, *allowed])]
