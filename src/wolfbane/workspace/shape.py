"""The shape of settings: which keys may stand where, and what is wrong with a table."""

from __future__ import annotations

import json
import re
import typing
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, is_dataclass
from pathlib import Path
from typing import Any

from wolfbane.errors import Problem, did_you_mean, nearest
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.toml_lines import Location, line_of
from wolfbane.workspace.settings import Settings

_RENAMED = {
    ("suite", "globals"): "'bare_words'",
    ("suite", "run_ignored"): "'ignored = \"run\"'",
}


def without_foreign_keys(
    path: Path, lines: dict[Location, int], data: dict[str, Any]
) -> tuple[dict[str, Any], list[Problem]]:
    """The settings without keys of suites that only other kinds have, and a problem for each."""
    suites = data.get("suite")
    if not isinstance(suites, list):
        return data, []
    problems, kept = [], []
    for index, table in enumerate(suites):
        foreign = _foreign_keys(table)
        for key, kinds in foreign.items():
            words = f"'{key}' is for suites of kind {' or '.join(kinds)}"
            problems.append(Problem(words, path.name, line_of(lines, ("suite", index, key))))
        kept.append({k: v for k, v in table.items() if k not in foreign} if foreign else table)
    return {**data, "suite": kept}, problems


def _foreign_keys(table: Any) -> dict[str, list[str]]:
    """Keys of a suite that its kind does not have, with the kinds that have them."""
    kind = table.get("kind") if isinstance(table, dict) else None
    if kind not in KINDS or set(table) <= set(_names(find_kind(kind).suite_type)):
        return {}
    models = {name: _names(find_kind(name).suite_type) for name in KINDS}
    found = {
        key: [name for name, keys in models.items() if key in keys]
        for key in table if key not in models[kind]
    }  # fmt: skip
    return {key: kinds for key, kinds in found.items() if kinds}


def checked_suite(table: Any) -> tuple[Suite | None, list[Any]]:
    """A suite by the model of its kind, or what pydantic reports about its table."""
    from pydantic import TypeAdapter, ValidationError

    try:
        suite: Suite = TypeAdapter(_suite_model(table)).validate_json(
            json.dumps(table, default=str)
        )
    except ValidationError as error:
        return None, _relevant(table, error.errors())
    if suite.kind not in KINDS:
        return None, [_unknown_kind(suite.kind)]
    return suite, []


def _relevant(table: Any, items: list[Any]) -> list[Any]:
    """The errors of a suite. Where its kind is not known, keys that some kind has are right."""
    kind = table.get("kind") if isinstance(table, dict) else None
    if kind in KINDS:
        return items
    own = {item.name for name in KINDS for item in fields(find_kind(name).suite_type)}
    items = [
        item for item in items
        if item["type"] != "unexpected_keyword_argument" or item["loc"][0] not in own
    ]  # fmt: skip
    return [*items, _unknown_kind(kind)] if isinstance(kind, str) else items


def _unknown_kind(kind: str) -> dict[str, Any]:
    expected = ", ".join(f"'{name}'" for name in KINDS)
    return {
        "type": "literal_error", "loc": ("kind",), "input": kind, "ctx": {"expected": expected}
    }  # fmt: skip


def _suite_model(table: Any) -> type[Suite]:
    kind = table.get("kind") if isinstance(table, dict) else None
    return find_kind(kind).suite_type if kind in KINDS else Suite


def shape_problems(
    path: Path, lines: dict[Location, int], data: Mapping[str, Any], items: Sequence[Any]
) -> Iterator[Problem]:
    """What pydantic reports, in words: each with its line and a hint."""
    problems: dict[tuple[int, str], Problem] = {}
    meant = _meant(data, items)
    for item in items:
        if item["type"] == "missing" and tuple(item["loc"]) in meant:
            continue
        problem = _problem(path, lines, data, item)
        problems.setdefault((problem.line, str(item["loc"][:3])), problem)
    yield from problems.values()


def _meant(data: Mapping[str, Any], items: Sequence[Any]) -> set[Location]:
    """Keys that were written as another word: that they are missing follows from that."""
    found: set[Location] = set()
    for item in items:
        location: Location = item["loc"]
        if item["type"] == "unexpected_keyword_argument":
            close = nearest(str(location[-1]), _keys(data, location))
            found.add((*location[:-1], close or ""))
    return found


def _problem(path: Path, lines: dict[Location, int], data: Mapping[str, Any], item: Any) -> Problem:
    location: Location = item["loc"]
    if location[0] == "param" and len(location) > 1:
        location = ("param", *str(location[1]).split("."), *location[2:])
    line = line_of(lines, location)
    key, place = str(location[-1]), ".".join(_key_names(data, location))
    if item["type"] == "unexpected_keyword_argument":
        return _unknown_key(path, line, data, location)
    if item["type"] == "missing":
        return Problem(f"'{place}' is missing", path.name, line)
    if item["type"] == "literal_error":
        value = str(item["input"])
        words = re.findall(r"'([^']*)'", item["ctx"]["expected"])
        return Problem(f"unknown {key} '{value}'", path.name, line, did_you_mean(value, words))
    message = item["msg"][:1].lower() + item["msg"][1:]
    return Problem(f"'{place}' is {item['input']!r}: {message}", path.name, line)


def _unknown_key(path: Path, line: int, data: Mapping[str, Any], location: Location) -> Problem:
    key = str(location[-1])
    if now := _RENAMED.get((str(location[0]), key)):
        return Problem(f"the key '{key}' has a new name: write {now}", path.name, line)
    hint = did_you_mean(key, _keys(data, location))
    if location[0] == "suite" and len(location) == 3 and not hint:
        hint = did_you_mean(key, [k for n in KINDS for k in _names(find_kind(n).suite_type)])
    return Problem(f"unknown key '{key}'", path.name, line, hint)


def _keys(data: Mapping[str, Any], location: Location) -> list[str]:
    """The keys that may stand beside the one at ``location``."""
    model = _model_at(data, location[:-1])
    return _names(model) if model else _names(Settings)


def _key_names(data: Mapping[str, Any], location: Location) -> Iterator[str]:
    """The parts of a location that are keys, and neither numbers nor names of the user's."""
    for count, part in enumerate(location):
        model = _model_at(data, location[:count])
        if isinstance(part, str) and model is not None and part in _names(model):
            yield part


def _model_at(data: Mapping[str, Any], location: Location) -> Any:
    """The model of the table at a location; None where it is no table with fixed keys."""
    model: Any = Settings
    for count, part in enumerate(location):
        if location[:count] == ("suite",) and isinstance(part, int):
            model = _suite_model(data["suite"][part])
        elif is_dataclass(model):
            model = typing.get_type_hints(model).get(str(part))
        else:
            model = typing.get_args(model)[-1] if typing.get_args(model) else None
        given = [each for each in typing.get_args(model) if is_dataclass(each)]
        if type(None) in typing.get_args(model) and given:  # a table that may be left out
            model = given[0]
    return model if is_dataclass(model) else None


def _names(model: Any) -> list[str]:
    return [item.name for item in fields(model)]
