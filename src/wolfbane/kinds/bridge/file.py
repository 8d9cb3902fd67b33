"""Reads a bridge file and reports all errors at once, each with its line and a hint."""

from __future__ import annotations

import json
import os
import tomllib
from collections.abc import Iterable
from functools import lru_cache
from pathlib import Path
from typing import Any

from wolfbane.basis.toml_lines import line_index, line_of
from wolfbane.basis.toml_tables import faults, read_table
from wolfbane.errors import InputError, Problem
from wolfbane.kinds.bridge.checks import wrong_meaning
from wolfbane.kinds.bridge.tables import Bridge


@lru_cache(maxsize=64)
def _parsed(path: Path, text: str) -> dict[str, Any]:
    try:
        # A date that is not in quotes is text, too.
        data: dict[str, Any] = json.loads(json.dumps(tomllib.loads(text), default=str))
    except tomllib.TOMLDecodeError as error:
        raise InputError(Problem(f"not valid TOML: {error}", _shown(path))) from None
    return data


def read_bridge(path: Path) -> Bridge:
    """A bridge with a valid file. Raises InputError with all errors in its shape."""
    text = _text(path)
    data = _parsed(path, text)
    if wrong := list(faults(Bridge, data)):
        lines = line_index(text)
        raise InputError(*(fault.problem(_shown(path), lines) for fault in wrong))
    return read_table(Bridge, data)


def check_bridge(path: Path, parameters: Iterable[str]) -> Bridge:
    """A bridge whose meaning is also checked. Raises InputError with all problems."""
    bridge = read_bridge(path)
    lines = line_index(_text(path))
    problems = [
        Problem(message, _shown(path), line_of(lines, location))
        for location, message in wrong_meaning(bridge, parameters)
    ]
    if problems:
        raise InputError(*problems)
    return bridge


def _shown(path: Path) -> str:
    """The file's name relative to this folder."""
    return os.path.relpath(path)


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(Problem(f"cannot read the file: {error}", _shown(path))) from None
