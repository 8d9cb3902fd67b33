"""Reads ``wolfbane.toml`` and reports all errors at once, each with its line and a hint."""

from __future__ import annotations

import json
import re
import tomllib
from pathlib import Path

from msgspec.structs import replace

from wolfbane.basis.toml_lines import line_index
from wolfbane.basis.toml_tables import read_table
from wolfbane.errors import InputError, Problem
from wolfbane.workspace.checks import meaning_problems
from wolfbane.workspace.dotted import with_dotted_names
from wolfbane.workspace.settings import Settings
from wolfbane.workspace.shape import foreign_keys, shape_problems, suite_type, without_foreign_keys


def read_settings(path: Path) -> Settings:
    """Read and check a settings file. Raises InputError with every problem found."""
    try:
        return _settings(path, _text(path))
    except RecursionError:
        raise InputError(Problem("the settings are nested too deeply", path.name)) from None


def _settings(path: Path, text: str) -> Settings:
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(_toml_problem(path, error)) from None
    # A date that is not in quotes is text, too.
    data = json.loads(json.dumps(with_dotted_names(data), default=str))
    lines = line_index(text)
    foreign = foreign_keys(path, lines, data)
    data = without_foreign_keys(data)
    if wrong := shape_problems(path, lines, data):
        raise InputError(*foreign, *wrong)
    suites = [read_table(suite_type(table), table) for table in data.pop("suite", ())]
    settings = replace(read_table(Settings, data), suite=suites)
    if problems := [*foreign, *meaning_problems(path, lines, settings)]:
        raise InputError(*sorted(problems, key=lambda problem: problem.line))
    return settings


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(Problem(f"cannot read the file: {error}", file=path.name)) from None


def _toml_problem(path: Path, error: tomllib.TOMLDecodeError) -> Problem:
    match = re.search(r"\(at line (\d+), column (\d+)\)", str(error))
    if match:
        message = str(error)[: match.start()].strip()
    else:
        message = str(error)
    line = 0
    if match:
        line = int(match[1])
    return Problem(f"not valid TOML: {message}", file=path.name, line=line)
