"""How a field of a request declares that it is an option of the command line, too."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import field, fields
from types import MappingProxyType
from typing import Any, NamedTuple

RUN, BROWSERS, REPORT, LOOK = "Run", "Browsers", "Report", "Only show"
"""The groups that help shows options in."""


class RunOption(NamedTuple):
    """Defines the command-line option of a field of :class:`RunRequest`.

    ``value`` is the name of the option's value. ``flags`` set the field to fixed values, each with
    its own help text. ``read`` converts the typed text and may raise ValueError.
    """

    group: str
    names: tuple[str, ...] = ()
    help: str = ""
    value: str = ""
    at_least: int | None = None
    choices: tuple[str, ...] = ()
    several: bool = False
    is_time: bool = False
    read: Callable[[str], Any] | None = None
    flags: Mapping[str, tuple[str, str]] = MappingProxyType({})


def option(group: str, *names: str, default: Any = None, **how: Any) -> Any:
    """A field of :class:`RunRequest` that has an option."""
    return field(default=default, metadata={"option": RunOption(group, names, **how)})


def options_of(request: type[Any]) -> dict[str, tuple[RunOption, Any]]:
    """The option and the default of each field of a request that has one, by the field's name."""
    return {
        item.name: (item.metadata["option"], item.default)
        for item in fields(request)
        if "option" in item.metadata
    }
