"""Readiness checks: the ways to find out whether something that suites need is ready.

Reads their written form.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any
from urllib.parse import urlsplit

import msgspec
from msgspec.structs import replace

from wolfbane.basis.units import seconds
from wolfbane.errors import did_you_mean

PATIENCE = 2.0
"""Seconds that an environment may take to respond, unless its readiness check sets another limit.
"""
START_PATIENCE = 30.0
"""The same for a service that was just started."""
WAYS = ("http", "tcp", "command")


class Probe(msgspec.Struct, frozen=True):
    """One check: an HTTP address, ``HOST:PORT``, or an argument list. ``within`` is in seconds."""

    way: str
    target: tuple[str, ...]
    within: float | None = None

    @property
    def description(self) -> str:
        """The checked address or command, for display."""
        return {"http": "GET ", "tcp": "TCP ", "command": ""}[self.way] + " ".join(self.target)

    def filled(self, fill: Callable[[str], str]) -> Probe:
        """With values in place of names."""
        return replace(self, target=tuple(map(fill, self.target)))


def read_probes(given: object) -> list[Probe]:
    """Readiness checks from ``ready``: one or several, each an address, ``tcp://HOST:PORT`` or a
    table.

    A table is ``{ http = URL }``, ``{ tcp = "HOST:PORT" }`` or ``{ command = [...] }``, with
    ``within``. Raises ValueError.
    """
    if isinstance(given, list):
        items = given
    else:
        items = [given]
    return [_table(item) if isinstance(item, Mapping) else _address(item) for item in items]


def _address(given: object, within: float | None = None) -> Probe:
    if not isinstance(given, str):
        raise ValueError(f"{given!r} must be an address or a table")
    if given.startswith("tcp://"):
        return Probe("tcp", (given.removeprefix("tcp://").rstrip("/"),), within)
    scheme = urlsplit(given.replace("{", "").replace("}", "")).scheme
    if scheme not in ("http", "https", "") or (not scheme and not given.startswith("{")):
        raise ValueError(
            f"'{given}' is not an address; write http://..., tcp://HOST:PORT or a table"
        )
    return Probe("http", (given,), within)


def _table(table: Mapping[str, Any]) -> Probe:
    for key in table:
        if key not in (*WAYS, "within"):
            raise ValueError(f"unknown key '{key}'; {did_you_mean(key, (*WAYS, 'within'))}")
    ways = [way for way in WAYS if way in table]
    if len(ways) != 1:
        raise ValueError(f"a readiness check needs exactly one of {', '.join(WAYS)}")
    way, target = ways[0], table[ways[0]]
    within = None
    if "within" in table:
        within = seconds(table["within"])
    if way == "http":
        return _address(target, within)
    if way == "tcp":
        return Probe("tcp", (str(target).removeprefix("tcp://").rstrip("/"),), within)
    if not (isinstance(target, list) and target and all(isinstance(t, str) for t in target)):
        raise ValueError("'command' must be a list of arguments, starting with the program")
    return Probe("command", tuple(target), within)
