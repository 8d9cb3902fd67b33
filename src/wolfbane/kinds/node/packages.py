"""Finds what a package's name means, by the manifests (``package.json``) of a workspace.

Conditions are not evaluated: every file that one of them names counts. After "Modules: Packages" of
the runtime's documentation.
"""

from __future__ import annotations

import posixpath
from collections.abc import Iterator
from functools import cached_property
from typing import Any

import msgspec

from wolfbane.kinds.source_tree import SourceTree

MANIFEST = "package.json"


class Packages:
    """The packages of a workspace, by their names."""

    def __init__(self, tree: SourceTree) -> None:
        self._tree = tree

    def targets(self, name: str, folder: str) -> Iterator[str]:
        """The paths that a bare specifier, used in ``folder``, means in this workspace."""
        if name.startswith("#"):
            home = self._around(folder)
            entries = _table(_manifest(self._tree, home).get("imports"))
            yield from _mapped(home, entries, name)
            return
        parts = name.split("/")
        count = 1
        if name.startswith("@"):
            count = 2
        package, inside = "/".join(parts[:count]), "/".join(parts[count:])
        for home in self._by_name.get(package, ()):
            yield from self._inside(home, inside)

    def _inside(self, home: str, inside: str) -> Iterator[str]:
        manifest = _manifest(self._tree, home)
        exports = manifest.get("exports")
        if exports is None:
            yield from [_joined(home, inside)] if inside else [home or "."]
            return
        entries = _table(exports)
        if not entries or not all(key.startswith(".") for key in entries):
            entries = {".": exports}
        yield from _mapped(home, entries, f"./{inside}" if inside else ".")

    @staticmethod
    def main_of(tree: SourceTree, home: str) -> list[str]:
        """The paths that the manifest of a folder names as its module."""
        main = _manifest(tree, home).get("main")
        if isinstance(main, str) and main:
            return [_joined(home, main)]
        return []

    def _around(self, folder: str) -> str:
        """The folder with the nearest manifest, upwards."""
        while folder and not self._tree.exists(f"{folder}/{MANIFEST}"):
            folder = posixpath.dirname(folder)
        return folder

    @cached_property
    def _by_name(self) -> dict[str, list[str]]:
        homes: dict[str, list[str]] = {}
        for path in self._tree.named(MANIFEST):
            home = posixpath.dirname(path)
            name = _manifest(self._tree, home).get("name")
            if isinstance(name, str):
                homes.setdefault(name, []).append(home)
        return homes


def _mapped(home: str, entries: dict[str, Any], key: str) -> Iterator[str]:
    """The paths that a table of subpaths gives for a key; one ``*`` stands for any text."""
    for pattern, value in entries.items():
        start, star, end = pattern.partition("*")
        middle = ""
        if not star and pattern != key:
            continue
        if star:
            if not (key.startswith(start) and key.endswith(end) and len(key) >= len(pattern) - 1):
                continue
            middle = key[len(start) : len(key) - len(end)]
        yield from (_joined(home, text.replace("*", middle)) for text in _texts(value))


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, list | dict):
        for inner in value.values() if isinstance(value, dict) else value:
            yield from _texts(inner)


def _table(value: Any) -> dict[str, Any]:
    if isinstance(value, dict):
        return value
    return {}


def _joined(home: str, path: str) -> str:
    return posixpath.normpath(posixpath.join(home, path))


def _manifest(tree: SourceTree, home: str) -> dict[str, Any]:
    try:
        return _table(msgspec.json.decode(tree.content(f"{home}/{MANIFEST}" if home else MANIFEST)))
    except msgspec.DecodeError:
        return {}
