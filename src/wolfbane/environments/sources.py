"""Where values come from besides the settings: files, variables, commands."""

from __future__ import annotations

import json
import os
import subprocess
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

STRUCTURED = (".json", ".toml", ".yaml", ".yml")
"""Endings of files that hold more than ``NAME=value`` lines."""
_PATIENCE = 30


def read_values(path: Path) -> dict[str, Any]:
    """Values by name from a ``.env``, JSON, YAML or TOML file. Raises ValueError."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise ValueError(f"cannot be read: {error}") from None
    suffix = path.suffix.lower()
    if suffix == ".json":
        data = json.loads(text)
    elif suffix == ".toml":
        data = tomllib.loads(text)
    elif suffix in (".yaml", ".yml"):
        import yaml

        try:
            data = yaml.safe_load(text)
        except yaml.YAMLError as error:
            raise ValueError(f"is not valid YAML: {error}") from None
    else:
        return dict(_variables(text))
    if not isinstance(data, dict):
        raise ValueError("holds no names with values")
    return data


def _variables(text: str) -> Mapping[str, str]:
    """``NAME=value`` lines; ``export`` before and quotes around are allowed, # begins a comment."""
    values = {}
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip().removeprefix("export ").strip()
        if not stripped or stripped.startswith("#"):
            continue
        name, equals, value = stripped.partition("=")
        if not equals:
            raise ValueError(f"line {number} is no NAME=value")
        value = value.strip()
        if len(value) > 1 and value[0] == value[-1] and value[0] in "\"'":
            value = value[1:-1]
        else:
            value = value.partition(" #")[0].rstrip()
        values[name.strip()] = value
    return values


def from_source(source: Mapping[str, Any], root: Path) -> tuple[str, str]:
    """A value, and words for where it is from: ``{ shell = ... }``, ``command``, ``file``.

    Raises ValueError.
    """
    (kind, given), *_ = source.items()
    if kind == "shell":
        value = os.environ.get(str(given))
        if value is None:
            raise ValueError(f"comes from the variable {given}, which is not set")
        return value, f"the variable {given}"
    if kind == "file":
        try:
            return (root / str(given)).read_text(encoding="utf-8").rstrip("\n"), f"file {given}"
        except (OSError, UnicodeDecodeError) as error:
            raise ValueError(f"comes from a file that cannot be read: {error}") from None
    command = given if isinstance(given, list) else ["/bin/sh", "-c", str(given)]
    try:
        run = subprocess.run(
            command, cwd=root, capture_output=True, text=True, timeout=_PATIENCE, check=True
        )
    except (OSError, subprocess.SubprocessError) as error:
        raise ValueError(f"comes from a command that failed: {error}") from None
    return run.stdout.rstrip("\n"), "the output of a command"


SOURCES = ("shell", "command", "file")


def is_source(value: object) -> bool:
    """Whether a value says where to have the real one from."""
    return isinstance(value, dict) and len(value) == 1 and next(iter(value)) in SOURCES
