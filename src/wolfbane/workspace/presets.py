"""Presets: named arguments of ``wolfbane run``, saved in the settings or in a personal file."""

from __future__ import annotations

import re
import shlex
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.workspace.settings import Workspace

_NAME = re.compile(r"[A-Za-z0-9][\w-]*")


class Saved(msgspec.Struct, frozen=True):
    """A preset and the file that contains it."""

    name: str
    arguments: tuple[str, ...]
    help: str
    file: Path


def personal_file() -> Path:
    """The file with a user's own presets, for every workspace."""
    import platformdirs

    return platformdirs.user_config_path("wolfbane") / "presets.toml"


def all_presets(workspace: Workspace) -> dict[str, Saved]:
    """Presets by name: the workspace's, then those of the user. Raises InputError."""
    saved = {}
    if workspace.file:
        for name, preset in workspace.settings.preset.items():
            saved[name] = Saved(
                name=name, arguments=tuple(preset.arguments), help=preset.help, file=workspace.file
            )
    file = personal_file()
    for name, table in _personal(file).items():
        saved.setdefault(name, _read(file, name, table))
    return saved


def find_preset(workspace: Workspace, name: str) -> Saved:
    """A preset by name, or a file of arguments by its path. Raises InputError."""
    presets = all_presets(workspace)
    if name in presets:
        return presets[name]
    path = Path(name)
    if path.is_file():
        return Saved(name=name, arguments=tuple(_arguments_in(path)), help="", file=path)
    message = f"there is no preset '{name}'"
    if "/" in name or "\\" in name:
        message = f"there is no file '{name}'"
    raise InputError(Problem(message, hint=did_you_mean(name, presets)))


def save_preset(
    workspace: Workspace, name: str, arguments: Sequence[str], description: str, *, personal: bool
) -> Path:
    """Save a preset; the rest of the file stays unchanged. Returns the file. Raises InputError."""
    import tomlkit

    if not _NAME.fullmatch(name):
        raise InputError(Problem(f"'{name}' is not a valid name; use letters, digits, '_', '-'"))
    file = _file(workspace, personal=personal)
    document = tomlkit.parse(file.read_text(encoding="utf-8") if file.exists() else "")
    table = tomlkit.table()
    table["arguments"] = list(arguments)
    if description:
        table["help"] = description
    presets = document.setdefault("preset", tomlkit.table(is_super_table=True))
    presets[name] = table
    _write(file, tomlkit.dumps(document))
    return file


def delete_preset(workspace: Workspace, name: str) -> Path:
    """Remove a preset from its file. Returns the file. Raises InputError."""
    import tomlkit

    presets = all_presets(workspace)
    if name not in presets:
        hint = did_you_mean(name, presets)
        raise InputError(Problem(f"there is no preset '{name}'", hint=hint))
    file = presets[name].file
    document: Any = tomlkit.parse(file.read_text(encoding="utf-8"))
    del document["preset"][name]
    if not document["preset"]:
        del document["preset"]
    _write(file, tomlkit.dumps(document))
    return file


def _file(workspace: Workspace, *, personal: bool) -> Path:
    if personal:
        return personal_file()
    if workspace.file is None:
        hint = "create one with 'wolfbane init', or use --personal"
        raise InputError(Problem("there is no wolfbane.toml to save the preset in", hint=hint))
    return workspace.file


def _write(file: Path, text: str) -> None:
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text, encoding="utf-8")
    except OSError as error:
        raise InputError(Problem(f"cannot write the file: {error}", str(file))) from None


def _personal(file: Path) -> Mapping[str, Any]:
    import tomllib

    try:
        tables = tomllib.loads(file.read_text(encoding="utf-8")).get("preset", {})
    except FileNotFoundError:
        return {}
    except (OSError, ValueError) as error:
        raise InputError(Problem(f"cannot read the file: {error}", str(file))) from None
    if isinstance(tables, dict):
        return tables
    return {}


def _read(file: Path, name: str, table: object) -> Saved:
    arguments = None
    if isinstance(table, dict):
        arguments = table.get("arguments")
    if not (isinstance(arguments, list) and all(isinstance(a, str) for a in arguments)):
        message = f"preset '{name}': 'arguments' must be a list of texts"
        raise InputError(Problem(message, str(file)))
    assert isinstance(table, dict)
    return Saved(name=name, arguments=tuple(arguments), help=str(table.get("help", "")), file=file)


def _arguments_in(path: Path) -> list[str]:
    """Arguments as a POSIX shell would read them, over many lines, with ``#`` comments."""
    try:
        return shlex.split(path.read_text(encoding="utf-8"), comments=True)
    except (OSError, ValueError) as error:
        raise InputError(Problem(f"cannot read the file: {error}", str(path))) from None
