"""Finds the process that listens on a port, to distinguish a service from another program."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from urllib.parse import urlsplit

import msgspec

from wolfbane.workspace.probes import Probe

_HERE = frozenset({"127.0.0.1", "localhost", "::1", "0.0.0.0", "::"})


class PortOwner(msgspec.Struct, frozen=True):
    """A process that listens on a port; ``pid`` is 0 if the system does not report it."""

    port: int
    pid: int
    name: str

    def __str__(self) -> str:
        who = "another process"
        if self.pid:
            who = f"{self.name} (process {self.pid})"
        return f"port {self.port} is already used by {who}"


def ports_of(port: int, probes: Iterable[Probe]) -> set[int]:
    """The ports of this machine where a service is expected: its own, and those of its readiness
    checks.
    """
    if port:
        ports = {port}
    else:
        ports = set()
    for probe in probes:
        if probe.way != "command":
            if probe.way == "http":
                address = probe.target[0]
            else:
                address = f"//{probe.target[0]}"
            with contextlib.suppress(ValueError):
                parts = urlsplit(address)
                default = 80
                if parts.scheme == "https":
                    default = 443
                if parts.hostname in _HERE:
                    ports.add(parts.port or default)
    return ports


def listeners(ports: Iterable[int]) -> list[PortOwner]:
    """The processes that listen on these ports now."""
    import psutil

    wanted, owners = set(ports), []
    try:
        connections = psutil.net_connections("tcp")
    except psutil.Error:  # some systems tell this to the superuser alone
        return []
    for connection in connections:
        port = 0
        if connection.laddr:
            port = connection.laddr[1]
        if connection.status == psutil.CONN_LISTEN and port in wanted:
            name = ""
            with contextlib.suppress(psutil.Error):
                name = ""
                if connection.pid:
                    name = psutil.Process(connection.pid).name()
            owners.append(PortOwner(port, connection.pid or 0, name))
    return owners


def strangers(ports: Iterable[int], process: int) -> list[PortOwner]:
    """The processes that listen there and are not the process or its children, as far as known."""
    import psutil

    own = {process}
    with contextlib.suppress(psutil.Error):
        own.update(child.pid for child in psutil.Process(process).children(recursive=True))
    owners = listeners(ports)
    theirs = {listener.port for listener in owners if listener.pid in own or not listener.pid}
    return [listener for listener in owners if listener.port not in theirs]
