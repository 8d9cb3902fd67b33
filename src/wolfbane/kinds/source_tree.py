"""The files of a workspace, in which imports are followed."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import cached_property
from pathlib import Path

from wolfbane.basis.files import is_file, read_regular, walk

_LARGEST = 2_000_000
"""Bytes of a file that may be a source."""


class SourceTree:
    """Paths are relative to the workspace. ``gone`` are removed files that count as existing."""

    def __init__(self, root: Path, gone: Collection[str] = ()) -> None:
        self._root, self._gone = root, gone
        self._there: dict[str, bool] = {}
        self._contents: dict[str, bytes] = {}

    def exists(self, path: str) -> bool:
        """Whether it is a file, or was one."""
        if path not in self._there:
            self._there[path] = path in self._gone or is_file(self._root / path)
        return self._there[path]

    def content(self, path: str) -> bytes:
        """The content of a file; empty if it cannot be read, or is too large for a source."""
        if path not in self._contents:
            file, content = self._root / path, b""
            try:
                if file.stat().st_size <= _LARGEST:
                    content = read_regular(file)
            except OSError:
                pass
            self._contents[path] = b"" if b"\0" in content[:1024] else content
        return self._contents[path]

    def named(self, name: str) -> Sequence[str]:
        """All files with this name, in any folder."""
        return self._by_name.get(name, ())

    def below(self, folder: str) -> Sequence[str]:
        """All files in a folder and its subfolders."""
        start = ""
        if folder:
            start = f"{folder}/"
        return [path for path in self._paths if path.startswith(start)]

    @cached_property
    def _paths(self) -> list[str]:
        return sorted({*walk(self._root, ""), *self._gone})

    @cached_property
    def _by_name(self) -> Mapping[str, list[str]]:
        names: dict[str, list[str]] = {}
        for path in self._paths:
            names.setdefault(path.rpartition("/")[2], []).append(path)
        return names
