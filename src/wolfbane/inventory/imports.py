"""Who imports whom, by reading: Python and JavaScript sources of a workspace."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from pathlib import Path

from wolfbane.engines.javascript_imports import javascript_imports, specifier_files
from wolfbane.engines.python_imports import module_files, python_imports
from wolfbane.files import is_file

PYTHON, JAVASCRIPT = (".py", ".pyw"), (".js", ".mjs", ".cjs", ".jsx")


class Imports:
    """The imports of a workspace's files. ``gone`` are paths that count as if they were there."""

    def __init__(self, root: Path, gone: Collection[str] = ()) -> None:
        self._root, self._gone = root, gone
        self._there: dict[str, bool] = {}
        self._said: dict[str, list[str]] = {}

    def importers(self, paths: Iterable[str], roots: tuple[str, ...]) -> dict[str, list[str]]:
        """All that these files reach, each with the files that import it.

        ``roots`` are the folders in which Python modules are looked for.
        """
        found: dict[str, list[str]] = {path: [] for path in paths}
        waiting = list(found)
        while waiting:
            path = waiting.pop()
            for imported in self.of(path, roots):
                if imported not in found:
                    found[imported] = []
                    waiting.append(imported)
                found[imported].append(path)
        return found

    def of(self, path: str, roots: tuple[str, ...]) -> list[str]:
        """The files of the workspace that one imports."""
        if path.endswith(PYTHON):
            own = (*roots, path.rpartition("/")[0])
            names = self._names(path, python_imports)
            return list(dict.fromkeys(f for name in names for f in self._module(name, path, own)))
        if path.endswith(JAVASCRIPT):
            names = self._names(path, javascript_imports)
            files = [self._first(specifier_files(name, path)) for name in names]
            return [file for file in files if file]
        return []

    def _names(self, path: str, read: Callable[[bytes], list[str]]) -> list[str]:
        if path not in self._said:
            try:
                source = (self._root / path).read_bytes()
            except OSError:
                source = b""
            self._said[path] = read(source)
        return self._said[path]

    def _module(self, name: str, path: str, roots: tuple[str, ...]) -> Iterator[str]:
        """A module's own file and those of the packages around it."""
        for candidates in module_files(name, path, roots):
            files = [file for file in candidates if self._is_there(file)]
            if any(file in files for file in candidates[-2:]):
                yield from (file for file in files if file != path)
                return

    def _first(self, candidates: list[str]) -> str:
        return next((file for file in candidates if self._is_there(file)), "")

    def _is_there(self, path: str) -> bool:
        if path not in self._there:
            self._there[path] = path in self._gone or is_file(self._root / path)
        return self._there[path]
