"""Describes how to find the deployed version of a system, and reads this description from the
settings.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

import msgspec
from msgspec.structs import replace

from wolfbane.basis.units import seconds
from wolfbane.errors import did_you_mean

_TEXTS = ("url", "pointer", "header", "pattern", "revision")
_KEYS = (*_TEXTS, "command", "within")
WITHIN = 5.0
"""Seconds that a system may take to report its version."""


class VersionSource(msgspec.Struct, frozen=True):
    """An address or a command, and the place of the version in the response.

    ``pointer`` is a JSON pointer (RFC 6901) into the body, ``header`` a header of the response,
    ``pattern`` a regular expression whose first group, if it has one, is the version. ``revision``
    is the git revision of a version, and contains ``{version}``.
    """

    url: str = ""
    command: tuple[str, ...] = ()
    pointer: str = ""
    header: str = ""
    pattern: str = ""
    revision: str = "{version}"
    within: float = WITHIN

    @property
    def texts(self) -> tuple[str, ...]:
        """Every text that may contain placeholders of parameters."""
        return (self.url, *self.command)

    def filled(self, fill: Callable[[str], str]) -> VersionSource:
        """With values in place of names."""
        return replace(self, url=fill(self.url), command=tuple(map(fill, self.command)))


def read_version_source(given: object) -> VersionSource:
    """The source from ``version`` of an environment. Raises ValueError."""
    if not isinstance(given, Mapping):
        raise ValueError('it must be a table, for example { url = "...", pointer = "/version" }')
    table: Mapping[str, Any] = given
    for key, value in table.items():
        if key not in _KEYS:
            raise ValueError(f"unknown key '{key}'; {did_you_mean(key, _KEYS)}".removesuffix("; "))
        if key in _TEXTS and not isinstance(value, str):
            raise ValueError(f"'{key}' must be a text")
    if ("url" in table) == ("command" in table):
        raise ValueError("it needs either 'url' or 'command'")
    command = table.get("command", [])
    if not (isinstance(command, list) and all(isinstance(each, str) for each in command)):
        raise ValueError("'command' must be a list of arguments, starting with the program")
    _check_place(table)
    try:
        re.compile(table.get("pattern", ""))
    except re.error as error:
        raise ValueError(f"'pattern' is not a regular expression: {error}") from None
    if "{version}" not in table.get("revision", "{version}"):
        raise ValueError("'revision' must contain {version}")
    texts = {key: table[key] for key in _TEXTS if key in table}
    if "within" in table:
        within = seconds(table["within"])
    else:
        within = WITHIN
    return VersionSource(**texts, command=tuple(command), within=within)


def _check_place(table: Mapping[str, Any]) -> None:
    """Where the version is in the answer: in a header, or at a JSON pointer."""
    if "header" in table and "url" not in table:
        raise ValueError("'header' works only together with 'url'")
    if "header" in table and "pointer" in table:
        raise ValueError("use either 'pointer' or 'header', not both")
    if (pointer := table.get("pointer", "")) and not pointer.startswith("/"):
        raise ValueError(f"'pointer' is '{pointer}': a JSON pointer starts with '/'")
