"""The settings of each kind, checked with the values of environments before a run."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from pathlib import Path

from wolfbane.basis.toml_lines import Location, line_index, line_of
from wolfbane.environments import Environment
from wolfbane.errors import InputError, Problem
from wolfbane.inventory.scan import Inventory
from wolfbane.kinds.protocols import FillsSettings
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.vocabulary import SETTINGS_NAME


def check_kind_settings(
    inventory: Inventory, suites: Iterable[Suite], environments: Iterable[Environment]
) -> None:
    """Raises InputError for settings that are invalid after their parameters are filled in."""
    root = inventory.workspace.root
    problems: list[Problem] = []
    for suite in suites:
        kind = find_kind(suite.kind)
        if not isinstance(kind, FillsSettings):
            continue
        files = [file.path for file in inventory.files.values() if file.suite == suite.name]
        filled = [kind.filled(suite, environment.filled) for environment in environments]
        for location, message, hint in kind.wrong_when_filled(root, suite, files, filled=filled):
            problems.append(_problem(root, suite, location, message=message, hint=hint))
    if problems:
        raise InputError(*dict.fromkeys(problems))


def _problem(root: Path, suite: Suite, location: Location, message: str, hint: str) -> Problem:
    folder, _, own = suite.name.rpartition("/")
    path = root / folder / SETTINGS_NAME
    text = path.read_text(encoding="utf-8")
    names = [table.get("name") for table in tomllib.loads(text).get("suite", [])]
    line = line_of(line_index(text), ("suite", names.index(own), *location))
    file = path.relative_to(root).as_posix()
    return Problem(message=f"suite '{suite.name}': {message}", file=file, line=line, hint=hint)
