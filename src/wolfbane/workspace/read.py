"""Read ``wolfbane.toml``: all of its errors at once, each with its line and a hint."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ValidationError

from wolfbane.errors import ExpressionError, InputError, Problem, did_you_mean
from wolfbane.selection import parse
from wolfbane.workspace.locate import Location, line_index, line_of
from wolfbane.workspace.settings import KINDS, Settings, Suite, TagRule, WorkspaceTable

_TABLES: dict[str, type[BaseModel]] = {
    "workspace": WorkspaceTable, "suite": Suite, "tag": TagRule
}  # fmt: skip
_ONLY_FOR = {"python": "python", "top": "python", "import_path": "python", "interpreters": "tap"}


def read_settings(path: Path) -> Settings:
    """Read and check a settings file. Raises InputError with every problem found."""
    text = _text(path)
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(_toml_problem(path, error)) from None
    lines = line_index(text)
    try:
        settings = Settings.model_validate(data)
    except ValidationError as error:
        raise InputError(*_problems(path, lines, error)) from None
    problems = list(_cross_checks(path, lines, settings))
    if problems:
        raise InputError(*problems)
    return settings


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


def _problems(path: Path, lines: dict[Location, int], error: ValidationError) -> list[Problem]:
    return [_problem(path, line_of(lines, item["loc"]), item) for item in error.errors()]


def _problem(path: Path, line: int, item: Any) -> Problem:
    location: Location = item["loc"]
    key = str(location[-1])
    place = ".".join(str(part) for part in location if not isinstance(part, int))
    if item["type"] == "extra_forbidden":
        return Problem(f"unknown key '{key}'", path.name, line, did_you_mean(key, _keys(location)))
    if item["type"] == "missing":
        return Problem(f"'{place}' is missing", path.name, line)
    if item["type"] == "literal_error":
        value = str(item["input"])
        return Problem(f"unknown {key} '{value}'", path.name, line, did_you_mean(value, KINDS))
    if item["type"] == "value_error":
        return Problem(f"'{place}': {item['ctx']['error']}", path.name, line)
    message = item["msg"][:1].lower() + item["msg"][1:]
    return Problem(f"'{place}' is {item['input']!r}: {message}", path.name, line)


def _keys(location: Location) -> list[str]:
    """The keys that may stand beside the one at ``location``."""
    table = _TABLES.get(str(location[0])) if len(location) > 1 else None
    return list(table.model_fields) if table else list(_TABLES)


def _cross_checks(path: Path, lines: dict[Location, int], settings: Settings) -> list[Problem]:
    problems: list[Problem] = []

    def add(location: Location, message: str, hint: str = "") -> None:
        problems.append(Problem(message, path.name, line_of(lines, location), hint))

    seen: dict[str, int] = {}
    for index, suite in enumerate(settings.suites):
        if suite.name in seen:
            first = line_of(lines, ("suite", seen[suite.name], "name"))
            add(("suite", index, "name"), f"two suites are named '{suite.name}' (line {first})")
        seen.setdefault(suite.name, index)
        for key, kind in _ONLY_FOR.items():
            if key in suite.model_fields_set and suite.kind != kind:
                add(("suite", index, key), f"'{key}' is for suites of kind {kind} only")
        for pattern in suite.paths:
            if not _is_there(path.parent, pattern):
                add(("suite", index, "paths"), f"suite '{suite.name}': there is no '{pattern}'")
        if not (path.parent / suite.folder).is_dir():
            add(("suite", index, "folder"), f"there is no folder '{suite.folder}'")
    expressions: list[tuple[Location, str]] = [
        (("tag", i, "match"), rule.match) for i, rule in enumerate(settings.tag_rules)
    ]
    if settings.workspace.leave_out:
        expressions.append((("workspace", "leave_out"), settings.workspace.leave_out))
    for location, text in expressions:
        try:
            parse(text)
        except ExpressionError as error:
            add(location, str(error))
    return problems


def _is_there(root: Path, pattern: str) -> bool:
    if any(mark in pattern for mark in "*?["):
        return True
    return (root / pattern).exists()
