"""Finds the line of a key in a TOML text, for error messages."""

from __future__ import annotations

import re
from collections.abc import Mapping

Location = tuple[str | int, ...]

_HEADER = re.compile(r"^\s*\[(\[)?\s*([^\[\]]+?)\s*\](?:\])?\s*(?:#.*)?$")
_KEY = re.compile(
    r"""^\s*((?:[\w-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[\w-]+|"[^"]*"|'[^']*'))*)\s*="""
)


def line_index(text: str) -> dict[Location, int]:
    """Map the path of every table and key (``("suite", 0, "kind")``) to its line, from 1.

    Reading line by line is sufficient: the text was parsed before, so it is valid TOML.
    """
    lines: dict[Location, int] = {}
    arrays: dict[str, int] = {}
    table: Location = ()
    for number, line in enumerate(text.splitlines(), 1):
        if header := _HEADER.match(line):
            names = _names(header[2])
            if header[1]:
                arrays[header[2]] = arrays.get(header[2], -1) + 1
                table = (*names, arrays[header[2]])
            elif names[0] in arrays and len(names) > 1:
                table = (names[0], arrays[names[0]], *names[1:])
            else:
                table = tuple(names)
            lines.setdefault(table, number)
            lines.setdefault(tuple(names), number)
        elif key := _KEY.match(line):
            names = _names(key[1])
            for depth in range(1, len(names) + 1):
                lines.setdefault((*table, *names[:depth]), number)
    return lines


def line_of(lines: Mapping[Location, int], location: Location) -> int:
    """The line of ``location``, or of the nearest parent with a line."""
    for depth in range(len(location), 0, -1):
        if location[:depth] in lines:
            return lines[location[:depth]]
    return 1


def _names(dotted: str) -> list[str]:
    return [name.strip().strip("\"'") for name in dotted.split(".")]
