"""The shape of settings: the keys that each table allows, and the errors in a table."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from wolfbane.basis.toml_lines import Location, line_of
from wolfbane.basis.toml_tables import Fault, faults, keys_of
from wolfbane.errors import Problem, did_you_mean
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.settings import Settings

_RENAMED = {
    ("suite", "globals"): "'bare_words'",
    ("suite", "run_ignored"): "'ignored = \"run\"'",
}


def suite_type(table: Any) -> type[Suite]:
    """The type of a suite's table: that of its kind, if there is such a kind."""
    kind = None
    if isinstance(table, dict):
        kind = table.get("kind")
    if kind in KINDS:
        return find_kind(kind).suite_type
    return Suite


def foreign_keys(
    path: Path, lines: Mapping[Location, int], data: Mapping[str, Any]
) -> list[Problem]:
    """A problem for each key that only suites of other kinds have."""
    problems = []
    for index, table in enumerate(_suites(data)):
        for key, kinds in _foreign(table).items():
            message = f"'{key}' works only in suites of kind {' or '.join(kinds)}"
            problems.append(Problem(message, path.name, line_of(lines, ("suite", index, key))))
    return problems


def without_foreign_keys(data: Mapping[str, Any]) -> dict[str, Any]:
    """The settings without keys that only suites of other kinds have."""
    kept = []
    for table in _suites(data):
        foreign = _foreign(table)
        kept.append({k: v for k, v in table.items() if k not in foreign} if foreign else table)
    if kept:
        return {**data, "suite": kept}
    return dict(data)


def _suites(data: Mapping[str, Any]) -> list[Any]:
    suites = data.get("suite")
    if isinstance(suites, list):
        return suites
    return []


def _foreign(table: Any) -> dict[str, list[str]]:
    """Keys of a suite that its kind does not have, with the kinds that have them."""
    own = keys_of(suite_type(table))
    if not isinstance(table, dict) or table.get("kind") not in KINDS or set(table) <= set(own):
        return {}
    keys = {kind: keys_of(find_kind(kind).suite_type) for kind in KINDS}
    having = {key: [kind for kind in KINDS if key in keys[kind]] for key in table if key not in own}
    return {key: kinds for key, kinds in having.items() if kinds}


def shape_problems(
    path: Path, lines: Mapping[Location, int], data: Mapping[str, Any]
) -> list[Problem]:
    """All errors in the shape of the tables, each suite by its own kind."""
    mistakes = list(faults(Settings, {**data, "suite": []}))
    if not isinstance(data.get("suite", []), list):
        mistakes += faults(list[Suite], data["suite"], ("suite",), keys=("suite",))
    for index, table in enumerate(_suites(data)):
        mistakes += _faults_of_suite(table, ("suite", index))
    problems = [_problem(path, lines, fault) for fault in mistakes]
    return sorted(problems, key=lambda problem: problem.line)


def _faults_of_suite(table: Any, location: Location) -> Iterator[Fault]:
    """The errors of a suite. If its kind is unknown, keys of any kind are valid."""
    kind = None
    if isinstance(table, dict):
        kind = table.get("kind")
    for fault in faults(suite_type(table), table, location, keys=("suite",)):
        if kind in KINDS or fault.reason != "unknown key" or fault.location[-1] not in _all_keys():
            yield fault
    if isinstance(kind, str) and kind not in KINDS:
        yield Fault(
            reason="unknown word",
            location=(*location, "kind"),
            keys=("suite", "kind"),
            value=kind,
            expected=tuple(KINDS),
        )


def _all_keys() -> dict[str, None]:
    return dict.fromkeys(key for kind in KINDS for key in keys_of(find_kind(kind).suite_type))


def _problem(path: Path, lines: Mapping[Location, int], fault: Fault) -> Problem:
    if fault.location[0] == "param" and len(fault.location) > 1:
        table, name, *rest = fault.location
        fault = fault._replace(location=(table, *str(name).split("."), *rest))
    if fault.reason == "unknown key" and fault.location[0] == "suite" and len(fault.location) == 3:
        key = str(fault.location[-1])
        if now := _RENAMED.get(("suite", key)):
            message = f"the key '{key}' was renamed; use {now}"
            return Problem(message, path.name, line_of(lines, fault.location))
        if not did_you_mean(key, fault.expected):
            fault = fault._replace(expected=tuple(_all_keys()))
    return fault.problem(path.name, lines)
