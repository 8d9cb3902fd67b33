"""Read a bridge file: all of its errors at once, each with its line and a hint."""

from __future__ import annotations

import json
import os
import re
import tomllib
from collections.abc import Iterable
from dataclasses import fields
from functools import lru_cache
from pathlib import Path
from typing import Any

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.kinds.bridge.checks import wrong_meaning
from wolfbane.kinds.bridge.tables import (
    Bridge,
    Find,
    LinePattern,
    Listing,
    ListingKeys,
    NamesTable,
    Query,
    ReadTable,
    Run,
)
from wolfbane.toml_lines import Location, line_index, line_of

_TABLES: dict[Location, type[Any]] = {
    (): Bridge, ("find",): Find, ("find", "lines"): LinePattern, ("find", "query"): Query,
    ("find", "listing"): Listing, ("find", "listing", "keys"): ListingKeys,
    ("run",): Run, ("run", "names"): NamesTable, ("read",): ReadTable,
}  # fmt: skip
_WAYS: dict[str, type[Any]] = {"lines": LinePattern, "query": Query, "listing": Listing}


def read_bridge(path: Path) -> Bridge:
    """A bridge whose file was checked with the settings. Raises InputError where it is wrong now.

    Its shape is not looked at again: that needs a library that takes long to import.
    """
    return _read(path, _text(path))


@lru_cache(maxsize=64)
def _read(path: Path, text: str) -> Bridge:
    try:
        return _built(tomllib.loads(text))
    except (tomllib.TOMLDecodeError, KeyError, TypeError, AttributeError) as error:
        words = f"it was changed, and is no bridge any more: {error}"
        raise InputError(Problem(words, _shown(path))) from None


def check_bridge(path: Path, parameters: Iterable[str]) -> Bridge:
    """A bridge, all of it checked. Raises InputError with every problem found."""
    text = _text(path)
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(Problem(f"not valid TOML: {error}", _shown(path))) from None
    lines = line_index(text)
    bridge = _checked(path, data, lines)
    problems = [
        Problem(words, _shown(path), line_of(lines, place))
        for place, words in wrong_meaning(bridge, parameters)
    ]
    if problems:
        raise InputError(*problems)
    return bridge


def _shown(path: Path) -> str:
    """The file as people in this folder call it."""
    return os.path.relpath(path)


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(Problem(f"cannot be read: {error}", _shown(path))) from None


def _built(data: dict[str, Any]) -> Bridge:
    """A bridge from data whose shape is known to be right."""
    find = dict(data["find"])
    for key, table in _WAYS.items():
        if key in find:
            told = dict(find[key])
            if "keys" in told:
                told["keys"] = ListingKeys(**told["keys"])
            find[key] = table(**told)
    run = {**data["run"], "names": NamesTable(**data["run"]["names"])}
    return Bridge(data["about"], Find(**find), Run(**run), ReadTable(**data["read"]))


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
        return Problem(f"unknown key '{named}'", _shown(path), line, hint)
    if item["type"] == "missing":
        return Problem(f"'{named}' is missing", _shown(path), line)
    if item["type"] == "literal_error":
        words = re.findall(r"'([^']*)'", item["ctx"]["expected"])
        hint = did_you_mean(str(item["input"]), words)
        return Problem(f"unknown {named} '{item['input']}'", _shown(path), line, hint)
    message = item["msg"][:1].lower() + item["msg"][1:]
    return Problem(f"'{named}' is {item['input']!r}: {message}", _shown(path), line)
