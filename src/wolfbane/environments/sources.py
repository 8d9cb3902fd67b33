"""Sources of values outside the settings: files, variables, commands."""

from __future__ import annotations

import io
import json
import os
import re
import subprocess
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

STRUCTURED = (".json", ".toml", ".yaml", ".yml")
"""Extensions of files that contain more than ``NAME=value`` lines."""
_PATIENCE = 30


def read_values(path: Path) -> dict[str, Any]:
    """Values by name from a ``.env``, JSON, YAML or TOML file. Raises ValueError."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise ValueError(f"cannot read the file: {error}") from None
    try:
        data = _parsed(path.suffix.lower(), text)
    except RecursionError:
        raise ValueError("is nested too deeply") from None
    if not isinstance(data, dict):
        raise ValueError("does not contain names with values")
    return data


def _parsed(suffix: str, text: str) -> Any:
    if suffix == ".json":
        return json.loads(text)
    if suffix == ".toml":
        return tomllib.loads(text)
    if suffix not in (".yaml", ".yml"):
        return _variables(text)
    import yaml

    try:
        return yaml.safe_load(text)
    except yaml.YAMLError as error:
        raise ValueError(f"is not valid YAML: {error}") from None


def _variables(text: str) -> dict[str, str]:
    """The variables of a ``.env`` file, as python-dotenv reads it. Raises ValueError."""
    from dotenv.parser import parse_stream

    values = {}
    for binding in parse_stream(io.StringIO(text)):
        if binding.error or (binding.key and binding.value is None):
            raise ValueError(f"line {binding.original.line}: expected NAME=value")
        if binding.key:
            values[binding.key] = binding.value or ""
    return values


def variable_line(name: str, value: str) -> str:
    """A line of a ``.env`` file that a shell can also read, if the value contains no quote."""
    if re.fullmatch(r"[\w@%+=:,./-]+", value):
        return f"{name}={value}\n"
    if "'" not in value and "\\\\" not in value and not value.endswith("\\"):
        return f"{name}='{value}'\n"
    plain = "\n" not in value and "\r" not in value and " #" not in value
    if plain and value.strip() == value and value[0] not in "\"'#":
        return f"{name}={value}\n"
    escaped = value.replace("\\", "\\\\").replace('"', '\\"')
    return f'{name}="{escaped}"\n'


def from_source(source: Mapping[str, Any], root: Path) -> tuple[str, str]:
    """A value, and a text for its source: ``{ shell = ... }``, ``command``, ``file``.

    Raises ValueError.
    """
    (kind, given), *_ = source.items()
    if kind == "shell":
        value = os.environ.get(str(given))
        if value is None:
            raise ValueError(f"needs the environment variable {given}, which is not set")
        return value, f"the variable {given}"
    if kind == "file":
        try:
            return (root / str(given)).read_text(encoding="utf-8").rstrip("\n"), f"file {given}"
        except (OSError, UnicodeDecodeError) as error:
            raise ValueError(f"needs a file that cannot be read: {error}") from None
    if isinstance(given, list):
        command = given
    else:
        command = ["/bin/sh", "-c", str(given)]
    try:
        run = subprocess.run(
            command, cwd=root, capture_output=True, text=True, timeout=_PATIENCE, check=True
        )
    except (OSError, subprocess.SubprocessError) as error:
        raise ValueError(f"needs the output of a command that failed: {error}") from None
    return run.stdout.rstrip("\n"), "the output of a command"


SOURCES = ("shell", "command", "file")


def is_source(value: object) -> bool:
    """Whether a value defines where to read the real value."""
    return isinstance(value, dict) and len(value) == 1 and next(iter(value)) in SOURCES
