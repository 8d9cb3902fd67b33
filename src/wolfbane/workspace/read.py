"""Read ``wolfbane.toml``: all of its errors at once, each with its line and a hint."""

from __future__ import annotations

import contextlib
import hashlib
import json
import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import fields
from pathlib import Path
from typing import Any

from wolfbane import __version__
from wolfbane.errors import InputError, Problem, did_you_mean, nearest
from wolfbane.files import read_regular, write_whole
from wolfbane.workspace.checks import meaning_problems
from wolfbane.workspace.dotted import with_dotted_names
from wolfbane.workspace.locate import Location, line_index, line_of
from wolfbane.workspace.settings import (
    Browser,
    Http,
    Keep,
    Mail,
    Parameter,
    Preset,
    Retry,
    Service,
    Settings,
    Suite,
    TagRule,
    WorkspaceTable,
)

_TABLES: dict[str, type[Any]] = {
    "workspace": WorkspaceTable, "suite": Suite, "tag": TagRule, "param": Parameter, "env": dict,
    "service": Service, "preset": Preset,
    "browser": Browser, "retry": Retry, "mail": Mail, "keep": Keep,
}  # fmt: skip
CHECKED_NAME = "settings.checked"


def read_settings(path: Path) -> Settings:
    """Read and check a settings file. Raises InputError with every problem found.

    The shape of the tables is checked once for each content of the file and the bridges that it
    names: the check needs a library that takes longer to import than all the rest of a listing.
    """
    text = _text(path)
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(_toml_problem(path, error)) from None
    data = with_dotted_names(data)
    mark = _mark(path, text, data)
    known = _was_checked(path, data, mark)
    settings = _built(data) if known else _checked(path, text, data)
    problems = meaning_problems(path, line_index(text), data, settings, known=known)
    if problems:
        raise InputError(*problems)
    _remember(path, settings, mark)
    return settings


def _checked(path: Path, text: str, data: Mapping[str, Any]) -> Settings:
    from pydantic import TypeAdapter, ValidationError

    try:
        return TypeAdapter(Settings).validate_json(json.dumps(data, default=str))
    except ValidationError as error:
        lines = line_index(text)
        problems: dict[tuple[int, str], Problem] = {}
        meant = _meant(error.errors())
        for item in error.errors():
            if item["type"] == "missing" and tuple(item["loc"]) in meant:
                continue
            problem = _problem(path, lines, item)
            problems.setdefault((problem.line, str(item["loc"][:3])), problem)
        raise InputError(*problems.values()) from None


def _meant(items: Sequence[Any]) -> set[Location]:
    """Keys that were written as another word: that they are missing follows from that."""
    found: set[Location] = set()
    for item in items:
        location: Location = item["loc"]
        if item["type"] == "unexpected_keyword_argument":
            close = nearest(str(location[-1]), _keys(location))
            found.add((*location[:-1], close or ""))
    return found


def _built(data: Mapping[str, Any]) -> Settings:
    """Settings from data whose shape is known to be right."""
    return Settings(
        WorkspaceTable(**data.get("workspace", {})),
        [_suite(table) for table in data.get("suite", ())],
        [TagRule(**table) for table in data.get("tag", ())],
        {name: Parameter(**table) for name, table in data.get("param", {}).items()},
        data.get("env", {}),
        {name: Service(**table) for name, table in data.get("service", {}).items()},
        {name: Preset(**table) for name, table in data.get("preset", {}).items()},
        {name: Browser(**table) for name, table in data.get("browser", {}).items()},
        [Retry(**table) for table in data.get("retry", ())],
        Mail(**data["mail"]) if "mail" in data else None,
        Keep(**data.get("keep", {})),
    )


def _suite(table: Mapping[str, Any]) -> Suite:
    if "http" in table:
        table = {**table, "http": Http(**table["http"])}
    return Suite(**table)


def _mark(path: Path, text: str, data: Mapping[str, Any]) -> str:
    """Another one for other contents of the settings, or of a bridge."""
    seen = hashlib.blake2b(text.encode(), digest_size=16)
    suites = data.get("suite", ())
    for table in suites if isinstance(suites, list) else ():
        with contextlib.suppress(OSError, ValueError, TypeError, AttributeError):
            if bridge := table.get("bridge"):
                seen.update((path.parent / bridge).read_bytes())
    return f"{__version__} {seen.hexdigest()}"


def _was_checked(path: Path, data: Mapping[str, Any], mark: str) -> bool:
    table = data.get("workspace", {})
    results = table.get("results", WorkspaceTable.results) if isinstance(table, dict) else ""
    return _has_mark(path.parent / str(results) / CHECKED_NAME, mark)


def _has_mark(place: Path, mark: str) -> bool:
    try:
        return read_regular(place) == mark.encode()
    except (OSError, ValueError):
        return False


def _remember(path: Path, settings: Settings, mark: str) -> None:
    place = path.parent / settings.workspace.results / CHECKED_NAME
    with contextlib.suppress(OSError, ValueError):
        if place.parent.is_dir() and not _has_mark(place, mark):
            write_whole(place, mark)


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(Problem(f"cannot be read: {error}", file=path.name)) from None


def _toml_problem(path: Path, error: tomllib.TOMLDecodeError) -> Problem:
    place = re.search(r"\(at line (\d+), column (\d+)\)", str(error))
    message = str(error)[: place.start()].strip() if place else str(error)
    line = int(place[1]) if place else 0
    return Problem(f"not valid TOML: {message}", file=path.name, line=line)


def _problem(path: Path, lines: dict[Location, int], item: Any) -> Problem:
    location: Location = item["loc"]
    if location[0] == "param" and len(location) > 1:
        location = ("param", *str(location[1]).split("."), *location[2:])
    line = line_of(lines, location)
    names = [str(part) for part in location if not isinstance(part, int) and part in _WORDS]
    key, place = str(location[-1]), ".".join(names)
    if item["type"] == "unexpected_keyword_argument":
        if now := _RENAMED.get((str(location[0]), key)):
            return Problem(f"the key '{key}' has a new name: write {now}", path.name, line)
        return Problem(f"unknown key '{key}'", path.name, line, did_you_mean(key, _keys(location)))
    if item["type"] == "missing":
        return Problem(f"'{place}' is missing", path.name, line)
    if item["type"] == "literal_error":
        value = str(item["input"])
        words = re.findall(r"'([^']*)'", item["ctx"]["expected"])
        return Problem(f"unknown {key} '{value}'", path.name, line, did_you_mean(value, words))
    message = item["msg"][:1].lower() + item["msg"][1:]
    return Problem(f"'{place}' is {item['input']!r}: {message}", path.name, line)


_RENAMED = {
    ("suite", "globals"): "'bare_words'",
    ("suite", "run_ignored"): "'ignored = \"run\"'",
}
_WORDS = set(_TABLES) | {
    item.name for table in (*_TABLES.values(), Http) if table is not dict for item in fields(table)
}


def _keys(location: Location) -> list[str]:
    """The keys that may stand beside the one at ``location``."""
    table = _TABLES.get(str(location[0])) if len(location) > 1 else None
    if "http" in location[1:-1]:
        table = Http
    return [item.name for item in fields(table)] if table not in (None, dict) else list(_TABLES)
