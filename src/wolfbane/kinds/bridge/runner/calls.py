"""Builds a launcher's command line: test names in its form, within the system's length limit."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from wolfbane.kinds.bridge.runner.naming import LauncherName, fields_of_file

NAMES, FILES, EXTRA = "{names}", "{files}", "{extra}"
_OF_ONE_FILE = ("file", "stem", "module")
_ONE_FOR_EACH_START = (*_OF_ONE_FILE, "folder", "package")
"""Placeholders of a command with one value: a start is for one file, or for one folder."""
LISTED = ("list", "input")
"""Names are lines, of a file or of the standard input."""
LIST = "names.txt"
STANDARD_INPUT = "-"
"""The usual argument of a program that reads its standard input as a file."""
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
_KEPT_AS_THEY_ARE = ("glob", "posix")
"""Dialects without escapes for line breaks."""


def reason_not_addressable(test: LauncherName, names: Mapping[str, Any]) -> str:
    """The reason why the launcher cannot run a test by name; empty if it can."""
    if "\0" in test.known_as:
        return "the test name contains a NUL character, which cannot be in a command line"
    if names["how"] in LISTED and re.search(r"[\r\n]", test.known_as):
        return "the test name contains a line break, but names are given one per line"
    if names["how"] == "joined" and names["separator"] in test.known_as:
        return (
            f"the test name contains '{names['separator']}', which is the separator between names"
        )
    return ""


def escaped(text: str, dialect: str) -> str:
    """Text as a regular expression of a dialect that matches exactly this text."""
    made = re.sub("[" + re.escape(_SPECIAL[dialect]) + "]", lambda m: f"\\{m[0]}", text)
    if dialect in _KEPT_AS_THEY_ARE:
        return made
    return made.replace("\n", "\\n").replace("\r", "\\r").replace("\t", "\\t")


def start_key(test: LauncherName, run: Mapping[str, Any]) -> tuple[str, ...]:
    """The values of the placeholders that have one value for each start: a file or a folder."""
    message = " ".join(arguments_of(run))
    fields = fields_of_file(test.file)
    return tuple(fields[name] for name in _ONE_FOR_EACH_START if f"{{{name}}}" in message)


def names_files(run: Mapping[str, Any]) -> bool:
    """Whether a start runs only the tests of its files, because the command names them."""
    message = " ".join(arguments_of(run))
    return any(f"{{{name}}}" in message for name in (*_OF_ONE_FILE, "files"))


def separate(
    tests: Sequence[LauncherName],
    run: Mapping[str, Any],
    *,
    apart: bool,
    others: Iterable[LauncherName] = (),
) -> list[list[LauncherName]]:
    """The tests that may be in one start: those with equal placeholders, in few groups.

    ``apart``: tests of two files with the same name in the report are in different groups, because
    their entries could not be distinguished. ``others`` are tests of these files that were not
    selected; one that has the launcher's name of a selected test runs with its file.
    """
    asked = {test.known_as for test in tests}
    also: dict[str, list[LauncherName]] = {}
    for test in others:
        if test.known_as in asked:
            also.setdefault(test.path, []).append(test)
    groups: dict[tuple[tuple[str, ...], int], list[LauncherName]] = {}
    seen: dict[tuple[tuple[str, ...], str], list[str]] = {}
    layers: dict[str, int] = {}
    by_file: dict[str, list[LauncherName]] = {}
    for test in tests:
        by_file.setdefault(test.path, []).append(test)
    for path, some in by_file.items():
        key = start_key(some[0], run)
        running = (*some, *also.get(path, ()))
        same = [seen.setdefault((key, test.read_as), []) for test in running]
        taken = {layers[other] for paths in same for other in paths}
        layers[path] = next(n for n in itertools.count() if n not in taken) if apart else 0
        for paths in same:
            if path not in paths:
                paths.append(path)
        groups.setdefault((key, layers[path]), []).extend(some)
    return list(groups.values())


def in_calls(
    tests: Sequence[LauncherName], run: Mapping[str, Any], *, named: bool
) -> Iterator[list[LauncherName]]:
    """The tests of each call: all in one, unless the command line would be too long.

    Without names (``named``), only the files count.
    """
    how, alike = run["names"]["how"], _alike(tests)
    if how == "files" or (named and run["per"] == "test"):
        yield from alike
        return
    names_count = named and how not in LISTED
    files_count = FILES in " ".join(flat(run["command"]))
    current: list[LauncherName] = []
    size, files = 0, set[str]()
    for some in alike:
        first = some[0]
        length = names_count * (2 * len(first.known_as.encode()) + 64)
        length += (files_count and first.file not in files) * (len(first.file.encode()) + 64)
        if current and size + length > LONGEST:
            yield current
            current, size, files = [], 0, set()
        current += some
        files.add(first.file)
        size += length
    if current:
        yield current


def _alike(tests: Iterable[LauncherName]) -> list[list[LauncherName]]:
    """The tests of a file with the same name, which can only run together."""
    groups: dict[tuple[str, str], list[LauncherName]] = {}
    for test in tests:
        groups.setdefault((test.path, test.known_as), []).append(test)
    return list(groups.values())


def name_values(
    tests: Sequence[LauncherName], names: Mapping[str, Any], scratch: Path
) -> list[str]:
    """The names in the launcher's form: one by one, or all in one text or file."""
    how, known = names["how"], list(dict.fromkeys(test.known_as for test in tests))
    if how == "joined":
        return [names["separator"].join(known)]
    if how == "pattern":
        inner = "|".join(escaped(name, names["dialect"]) for name in known)
        return [names["whole"].replace("{}", inner)]
    if how in LISTED:
        path = scratch / LIST
        path.write_text("".join(f"{name}\n" for name in known), encoding="utf-8")
        return [str(path) if how == "list" else STANDARD_INPUT]
    if how == "each":
        return known
    return []


def flat(command: Iterable[str | Sequence[str]]) -> list[str]:
    """The arguments of a command, with nested lists flattened."""
    return [a for each in command for a in ([each] if isinstance(each, str) else each)]


def arguments_of(run: Mapping[str, Any]) -> list[str]:
    """All arguments of a start: of the command, and of the request to one that keeps running."""
    serve = run.get("serve")
    return [*flat(run["command"]), *(flat(serve["request"]) if serve else ())]


def filled(
    command: Sequence[str | Sequence[str]],
    many: Mapping[str, Sequence[str]],
    option: str,
    known: Mapping[str, str],
) -> list[str]:
    """The argument list. An argument with a ``many`` mark is repeated for each of its values.

    If it is exactly ``{names}``, the option precedes each. Nested arguments are omitted together if
    one of their placeholders has no value.
    """
    arguments: list[str] = []
    for argument in command:
        if not isinstance(argument, str):
            if all(_has_values(part, many, known) for part in argument):
                arguments += filled(argument, many, option, known=known)
            continue
        mark = next((mark for mark in (NAMES, FILES, EXTRA) if mark in argument), "")
        if not mark:
            arguments.append(_single(argument, known))
            continue
        if option and argument == NAMES:
            before = [option]
        else:
            before = []
        for value in many[mark]:
            arguments += [*before, _single(argument, known).replace(mark, value)]
    return arguments


def _has_values(argument: str, many: Mapping[str, Sequence[str]], known: Mapping[str, str]) -> bool:
    names = re.findall(r"(?<!\{)\{([\w.-]+)\}", argument)
    return all(many.get(f"{{{name}}}") or known.get(name) for name in names)


def _single(argument: str, known: Mapping[str, str]) -> str:
    """An argument with its placeholders filled in. Two braces mean one."""

    def value(match: re.Match[str]) -> str:
        if match[1]:
            return known.get(match[1], match[0])
        return match[0][0]

    return re.sub(r"\{\{|\}\}|\{([\w.-]+)\}", value, argument)
