"""Read ``wolfbane.toml``: all of its errors at once, each with its line and a hint."""

from __future__ import annotations

import contextlib
import hashlib
import json
import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from wolfbane import __version__
from wolfbane.errors import InputError, Problem
from wolfbane.files import read_regular, write_whole
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.toml_lines import Location, line_index
from wolfbane.workspace.checks import meaning_problems
from wolfbane.workspace.dotted import with_dotted_names
from wolfbane.workspace.settings import (
    Browser,
    Keep,
    Mail,
    Parameter,
    Preset,
    Retry,
    Service,
    Settings,
    TagRule,
    WorkspaceTable,
)
from wolfbane.workspace.shape import checked_suite, shape_problems, without_foreign_keys

CHECKED_NAME = "settings.checked"


def read_settings(path: Path) -> Settings:
    """Read and check a settings file. Raises InputError with every problem found.

    The shape of the tables is checked once for each content of the file, and of the files with
    more settings that its suites name. The check needs a library that takes longer to import
    than all the rest of a listing.
    """
    text = _text(path)
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(_toml_problem(path, error)) from None
    data = with_dotted_names(data)
    mark = _mark(path, text, data)
    known = _was_checked(path, data, mark)
    lines = line_index(text)
    foreign: list[Problem] = []
    if known:
        settings = _built(data)
    else:
        data, foreign = without_foreign_keys(path, lines, data)
        settings = _checked(path, lines, data, foreign)
    problems = [*foreign, *meaning_problems(path, lines, settings, known=known)]
    if problems:
        raise InputError(*sorted(problems, key=lambda problem: problem.line))
    _remember(path, settings, mark)
    return settings


def _checked(
    path: Path, lines: dict[Location, int], data: Mapping[str, Any], problems: Sequence[Problem]
) -> Settings:
    """Check the shape of every table, each suite by the model of its kind."""
    from pydantic import TypeAdapter, ValidationError

    items: list[Any] = []
    suites: list[Suite] = []
    rest = dict(data)
    if isinstance(data.get("suite"), list):
        for index, table in enumerate(rest.pop("suite")):
            suite, wrong = checked_suite(table)
            items += [{**item, "loc": ("suite", index, *item["loc"])} for item in wrong]
            suites += [suite] if suite else []
    try:
        settings = TypeAdapter(Settings).validate_json(json.dumps(rest, default=str))
    except ValidationError as error:
        items += error.errors()
    if items:
        raise InputError(*problems, *shape_problems(path, lines, data, items))
    return replace(settings, suite=suites)


def _built(data: Mapping[str, Any]) -> Settings:
    """Settings from data whose shape is known to be right."""
    return Settings(
        WorkspaceTable(**data.get("workspace", {})),
        [find_kind(table["kind"]).built(table) for table in data.get("suite", ())],
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


def _mark(path: Path, text: str, data: Mapping[str, Any]) -> str:
    """Changes with the contents of the settings, and of the files that suites name with more."""
    seen = hashlib.blake2b(text.encode(), digest_size=16)
    suites = data.get("suite", ())
    for table in suites if isinstance(suites, list) else ():
        with contextlib.suppress(OSError, ValueError, TypeError, KeyError):
            for key in find_kind(table["kind"]).settings_files if "kind" in table else ():
                seen.update((path.parent / table[key]).read_bytes())
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
