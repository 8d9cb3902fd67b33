"""Finds imports between files by reading the sources of a workspace."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from functools import cached_property
from pathlib import Path

from wolfbane.kinds.imports import ImportReader, ModuleSearch, SourceImports, mentioned, places
from wolfbane.kinds.protocols import FollowsImports, kinds_with
from wolfbane.kinds.source_tree import SourceTree


class Imports:
    """The imports of a workspace's files."""

    def __init__(self, root: Path, gone: Collection[str] = ()) -> None:
        self.tree = SourceTree(root, gone)
        kinds = kinds_with(FollowsImports)  # type: ignore[type-abstract]
        self._readers = [kind.import_reader() for _, kind in kinds]
        self._read: dict[tuple[str, ImportReader], SourceImports] = {}

    def importers(
        self, paths: Iterable[str], own: ImportReader | None, roots: Sequence[str]
    ) -> dict[str, list[str]]:
        """All files that these files import, each with the files that import it.

        ``own`` reads the files of a suite first; other files are read by their endings. ``roots``
        are the folders in which modules are searched.
        """
        search = ModuleSearch(self.tree, tuple(roots))
        importers, widens = self._followed(paths, own, search)
        if widens:
            search = ModuleSearch(self.tree, tuple(roots), widened=True)
            importers, _ = self._followed(paths, own, search)
        return importers

    def is_source(self, path: str) -> bool:
        """Whether the imports of a file with this name are followed."""
        return path.endswith(self._source_endings)

    def unclear(self, path: str, own: ImportReader | None) -> tuple[str, tuple[str, ...]]:
        """An import of a file that cannot be followed, and the endings of what it may mean."""
        reader = self._reader(path, own)
        if reader is None or not (imports := self._imports(path, reader)).unclear:
            return "", ()
        return imports.unclear, reader.suffixes

    def _followed(
        self, paths: Iterable[str], own: ImportReader | None, search: ModuleSearch
    ) -> tuple[dict[str, list[str]], bool]:
        importers: dict[str, list[str]] = {path: [] for path in paths}
        waiting, widens, first = list(importers), False, frozenset(importers)
        while waiting:
            path = waiting.pop()
            reader = self._reader(path, own)
            widens |= reader is not None and self._imports(path, reader).widens
            if reader is None and path not in first:
                continue  # a data file
            for imported in self._imported(path, reader, search):
                if imported not in importers:
                    importers[imported] = []
                    waiting.append(imported)
                importers[imported].append(path)
        return importers, widens

    def _imported(self, path: str, reader: ImportReader | None, search: ModuleSearch) -> list[str]:
        """The files of the workspace that a file imports or mentions."""
        files = self._mentioned(path, search)
        if reader is not None:
            for name in self._imports(path, reader).names:
                files += reader.files(name, path, search)
        return [file for file in dict.fromkeys(files) if file != path]

    def _mentioned(self, path: str, search: ModuleSearch) -> list[str]:
        """The files whose path a source contains, and those whose name it contains."""
        files = []
        folders = (path.rpartition("/")[0], *search.roots)
        content = self.tree.content(path)
        for text in mentioned(content):
            existing = [
                candidate for candidate in places(text, folders) if self.tree.exists(candidate)
            ]
            files += existing or self._named(text, content)
        return files

    def _named(self, text: str, content: bytes) -> list[str]:
        """Files whose path ends with a text. A source with a common name counts if the content also
        has the name of its folder, as in ``join(here, "examples", "run.js")``.
        """
        tail = text.lstrip("./")
        named = self.tree.named(tail.rpartition("/")[2])
        files = [file for file in named if f"/{file}".endswith(f"/{tail}")]
        if len(files) < 2 or not self.is_source(tail):
            return files
        return [file for file in files if _names_folder(content, file)]

    @cached_property
    def _source_endings(self) -> tuple[str, ...]:
        return tuple(ending for reader in self._readers for ending in reader.suffixes)

    def _reader(self, path: str, own: ImportReader | None) -> ImportReader | None:
        readers = (own, *self._readers) if own else self._readers
        return next((each for each in readers if path.endswith(each.suffixes)), None)

    def _imports(self, path: str, reader: ImportReader) -> SourceImports:
        if (path, reader) not in self._read:
            self._read[path, reader] = reader.read(path, self.tree.content(path))
        return self._read[path, reader]


def _names_folder(content: bytes, file: str) -> bool:
    """Whether a text in a source has the name of the folder of a file."""
    folder = re.escape(file.rpartition("/")[0].rpartition("/")[2]).encode()
    return folder != b"" and re.search(rb"""["'`/]%b["'`/]""" % folder, content) is not None
