"""Read a bridge file: all of its errors at once, each with its line and a hint."""

from __future__ import annotations

import json
import re
import string
import tomllib
from collections.abc import Iterator
from dataclasses import fields
from functools import lru_cache
from pathlib import Path
from typing import Any

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.workspace.bridge_tables import (
    Bridge,
    Find,
    LinePattern,
    Names,
    Query,
    Reading,
    Run,
)
from wolfbane.workspace.locate import Location, line_index, line_of

_TABLES: dict[Location, type[Any]] = {
    (): Bridge, ("find",): Find, ("find", "lines"): LinePattern, ("find", "query"): Query,
    ("run",): Run, ("run", "names"): Names, ("read",): Reading,
}  # fmt: skip
_WAYS: dict[str, type[Any]] = {"lines": LinePattern, "query": Query}
NAMING = frozenset({"name", "group", "file"})
OF_ENTRIES = frozenset({"name", "group", "suite", "file"})
OF_COMMANDS = frozenset({"file", "names", "report", "scratch", "root"})


def read_bridge(path: Path) -> Bridge:
    """A bridge whose file was checked with the settings. Raises InputError where it is wrong now.

    Its shape is not looked at again: that needs a library that takes long to import.
    """
    return _read(path, _text(path))


@lru_cache(maxsize=64)
def _read(path: Path, text: str) -> Bridge:
    try:
        return _built(tomllib.loads(text))
    except (tomllib.TOMLDecodeError, KeyError, TypeError, AttributeError):
        return check_bridge(path)


def check_bridge(path: Path) -> Bridge:
    """A bridge, all of it checked. Raises InputError with every problem found."""
    text = _text(path)
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(Problem(f"not valid TOML: {error}", str(path))) from None
    lines = line_index(text)
    bridge = _checked(path, data, lines)
    problems = [Problem(words, str(path), line_of(lines, place)) for place, words in _wrong(bridge)]
    if problems:
        raise InputError(*problems)
    return bridge


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(Problem(f"cannot be read: {error}", str(path))) from None


def _built(data: dict[str, Any]) -> Bridge:
    """A bridge from data whose shape is known to be right."""
    find = dict(data["find"])
    for key, table in _WAYS.items():
        if key in find:
            find[key] = table(**find[key])
    run = {**data["run"], "names": Names(**data["run"]["names"])}
    return Bridge(data["about"], Find(**find), Run(**run), Reading(**data["read"]))


def _checked(path: Path, data: dict[str, Any], lines: dict[Location, int]) -> Bridge:
    from pydantic import TypeAdapter, ValidationError  # takes a while: only where it is used

    try:
        return TypeAdapter(Bridge).validate_json(json.dumps(data, default=str))
    except ValidationError as error:
        problems: dict[object, Problem] = {}
        for item in error.errors():
            line = line_of(lines, item["loc"])
            problems.setdefault((line, item["loc"]), _problem(path, line, item))
        raise InputError(*problems.values()) from None


def _problem(path: Path, line: int, item: Any) -> Problem:
    place: Location = item["loc"]
    key, named = str(place[-1]), ".".join(map(str, place))
    if item["type"] == "unexpected_keyword_argument":
        table = _TABLES.get(place[:-1])
        hint = did_you_mean(key, [each.name for each in fields(table)]) if table else ""
        return Problem(f"unknown key '{named}'", str(path), line, hint)
    if item["type"] == "missing":
        return Problem(f"'{named}' is missing", str(path), line)
    if item["type"] == "literal_error":
        words = re.findall(r"'([^']*)'", item["ctx"]["expected"])
        hint = did_you_mean(str(item["input"]), words)
        return Problem(f"unknown {named} '{item['input']}'", str(path), line, hint)
    message = item["msg"][:1].lower() + item["msg"][1:]
    return Problem(f"'{named}' is {item['input']!r}: {message}", str(path), line)


def _wrong(bridge: Bridge) -> Iterator[tuple[Location, str]]:
    """What is wrong in meaning: ways of finding, patterns, placeholders, what is never read."""
    find, run, read = bridge.find, bridge.run, bridge.read
    ways = [way for way in (find.lines, find.query) if way is not None]
    if len(ways) != 1 and run.names.how != "files":
        yield ("find",), "say one way to find tests: lines or query"
    if find.lines:
        for key in ("test", "group", "tag", "end"):
            text = getattr(find.lines, key)
            yield from _pattern(("find", "lines", key), text, "name" * (key in ("test", "group")))
    for key in ("passed", "failed", "skipped"):
        yield from _pattern(("read", key), getattr(read, key), "name")
    if read.format == "lines" and not (read.passed and read.failed):
        yield ("read",), "format 'lines' needs the patterns 'passed' and 'failed'"
    yield from _template(("run", "names", "name"), run.names.name, NAMING)
    yield from _template(("read", "name"), read.name, OF_ENTRIES)
    for argument in run.command:
        yield from _template(("run", "command"), argument, OF_COMMANDS, or_param=True)
    if not run.command:
        yield ("run", "command"), "'run.command' is empty"
    told = " ".join(run.command)
    if run.names.how != "files" and "{names}" not in told:
        yield ("run", "command"), "no argument is {names}: the launcher is not told what to run"
    if read.report and "{report}" not in told and "{scratch}" not in told:
        yield ("run", "command"), "no argument has {report} or {scratch}, but read.report is read"


def _pattern(place: Location, text: str, group: str) -> Iterator[tuple[Location, str]]:
    try:
        groups = re.compile(text).groupindex
    except re.error as error:
        yield place, f"not a regular expression: {error}"
        return
    if text and group and group not in groups:
        yield place, f"it needs a group (?P<{group}>...)"


def _template(
    place: Location, text: str, known: frozenset[str], *, or_param: bool = False
) -> Iterator[tuple[Location, str]]:
    try:
        named = [name for _, name, _, _ in string.Formatter().parse(text) if name is not None]
    except ValueError as error:
        yield place, f"'{text}': {error}"
        return
    for name in named:
        if name not in known and not (or_param and name.startswith("param.")):
            hint = did_you_mean(name, known)
            yield place, f"'{text}': there is no {{{name}}}; {hint}"
