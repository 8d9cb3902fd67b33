"""Finds imports between files by reading the sources of a workspace."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from pathlib import Path

from wolfbane.files import is_file, read_regular
from wolfbane.kinds.imports import ImportReader


class Imports:
    """The imports of a workspace's files. ``gone`` are paths that count as existing."""

    def __init__(self, root: Path, gone: Collection[str] = ()) -> None:
        self._root, self._gone = root, gone
        self._there: dict[str, bool] = {}
        self._names_in: dict[str, list[str]] = {}

    def importers(
        self, paths: Iterable[str], reader: ImportReader, roots: tuple[str, ...]
    ) -> dict[str, list[str]]:
        """All files that these files import, each with the files that import it.

        ``roots`` are the folders in which modules are searched.
        """
        importers: dict[str, list[str]] = {path: [] for path in paths}
        waiting = list(importers)
        while waiting:
            path = waiting.pop()
            for imported in self._imported(path, reader, roots):
                if imported not in importers:
                    importers[imported] = []
                    waiting.append(imported)
                importers[imported].append(path)
        return importers

    def _imported(self, path: str, reader: ImportReader, roots: tuple[str, ...]) -> list[str]:
        """The files of the workspace that a file imports."""
        if not path.endswith(reader.suffixes):
            return []
        files = [
            file for name in self._names(path, reader)
            for file in reader.files(name, path, roots, self._is_there)
        ]  # fmt: skip
        return list(dict.fromkeys(files))

    def _names(self, path: str, reader: ImportReader) -> list[str]:
        if path not in self._names_in:
            try:
                source = read_regular(self._root / path)
            except OSError:
                source = b""
            self._names_in[path] = reader.names(source)
        return self._names_in[path]

    def _is_there(self, path: str) -> bool:
        if path not in self._there:
            self._there[path] = path in self._gone or is_file(self._root / path)
        return self._there[path]
