"""The command line of a launcher: names as it wants them, and no longer than the system allows."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from wolfbane.model import NESTED

NAMES = "{names}"
LONGEST = 100_000
"""Bytes of names in one call: Linux allows 128 KiB for one argument."""
_SPECIAL = {
    "pcre": r"\.^$*+?()[]{}|/-#",
    "python": r"\.^$*+?()[]{}|-#&~",
    "java": r"\.^$*+?()[]{}|-#&",
    "javascript": r"\.^$*+?()[]{}|/",
    "go": r"\.^$*+?()[]{}|",
    "posix": r"\.^$*+?()[]{}|",
    "tcl": r"\.^$*+?()[]{}|",
    "glob": r"\*?[]{}",
}


@dataclass(frozen=True)
class Called:
    """A test under the name that the launcher has for it."""

    name: str
    known_as: str


def called(names: Sequence[str], file: str, template: str, nested: str) -> list[Called]:
    """What the launcher calls tests, by the template of the bridge."""
    found = []
    for name in names:
        *groups, last = name.split(NESTED)
        fields = {"name": last, "group": nested.join(groups), "file": file}
        found.append(Called(name, template.format(**fields)))
    return found


def escaped(text: str, dialect: str) -> str:
    """Text as a regular expression of a dialect that matches just it."""
    made = re.sub("[" + re.escape(_SPECIAL[dialect]) + "]", lambda m: f"\\{m[0]}", text)
    return made.replace("\n", "\\n").replace("\t", "\\t") if dialect != "glob" else made


def in_calls(tests: Sequence[Called], how: str) -> Iterator[list[Called]]:
    """The tests of each call: all in one, unless the names grow too long for a command line."""
    if how in ("list", "files"):
        yield list(tests)
        return
    current: list[Called] = []
    size = 0
    for test in tests:
        length = 2 * len(test.known_as.encode()) + 64
        if current and size + length > LONGEST:
            yield current
            current, size = [], 0
        current.append(test)
        size += length
    if current:
        yield current


def name_values(tests: Sequence[Called], names: dict[str, Any], scratch: Path) -> list[str]:
    """The names as the launcher wants them: one by one, or all in one text or file."""
    how, known = names["how"], [test.known_as for test in tests]
    if how == "joined":
        return [names["separator"].join(known)]
    if how == "pattern":
        inner = "|".join(escaped(name, names["dialect"]) for name in known)
        return [names["whole"].replace("{}", inner)]
    if how == "list":
        place = scratch / "names.txt"
        place.write_text("".join(f"{name}\n" for name in known), encoding="utf-8")
        return [str(place)]
    return known if how == "each" else []


def filled(
    command: Sequence[str], values: Sequence[str], option: str, single: Callable[[str], str]
) -> list[str]:
    """The argument list. An argument with ``{names}`` is there once for each of the values.

    Where it is nothing else, the option goes before each.
    """
    found: list[str] = []
    for argument in command:
        if argument == NAMES:
            found += [word for value in values for word in ([option] if option else []) + [value]]
        elif NAMES in argument:
            found += [_single(argument, single).replace(NAMES, value) for value in values]
        else:
            found.append(_single(argument, single))
    return found


def _single(argument: str, value: Callable[[str], str]) -> str:
    return re.sub(r"\{([\w.]+)\}", lambda m: m[0] if m[0] == NAMES else value(m[1]), argument)
