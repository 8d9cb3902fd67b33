"""How the imports of source files are followed."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator, Sequence
from typing import Protocol

from msgspec import Struct

from wolfbane.kinds.source_tree import SourceTree
from wolfbane.kinds.suite import Suite

PYTHON = (".py", ".pyw")
JAVASCRIPT = (".js", ".mjs", ".cjs", ".jsx", ".ts", ".mts", ".cts", ".tsx")
"""The endings of the languages whose imports are followed."""
_QUOTED = re.compile(rb"""["'`]([\w@.+-][\w@./+-]{0,200}\.\w{1,8})["'`]""")


class SourceImports(Struct, frozen=True):
    """The imports of a source.

    ``names`` are as written there; ``*`` at the end of a name is a part that only running shows.
    ``widens``: it adds folders to those in which modules are searched. ``unclear`` is an import
    whose name only running shows, with its line.
    """

    names: tuple[str, ...] = ()
    widens: bool = False
    unclear: str = ""


class ModuleSearch(Struct, frozen=True):
    """Where modules are searched: ``roots`` first, in order.

    ``widened``: also in folders that only running shows.
    """

    tree: SourceTree
    roots: tuple[str, ...] = ()
    widened: bool = False


class ImportReader(Protocol):
    """Finds the imports of a source file by reading it."""

    suffixes: tuple[str, ...]
    """The endings of file names that it reads."""

    def read(self, path: str, source: bytes) -> SourceImports:
        """The imports of a source."""

    def files(self, name: str, path: str, search: ModuleSearch) -> Iterator[str]:
        """The files of the workspace that a name in the file ``path`` means."""


def beside(suite: Suite, names: Sequence[str]) -> list[str]:
    """The globs of these names in a suite's folder, in those that it lists, and in all above."""
    listed = (path.partition("*")[0].rstrip("/") for path in suite.paths)
    folders: dict[str, None] = {}
    for parent in (suite.folder, *listed):
        folder = "."
        if parent:
            folder = posixpath.normpath(parent)
        while folder != ".":
            folders[folder] = None
            folder = posixpath.dirname(folder) or "."
    return [*names, *(f"{folder}/{name}" for folder in folders for name in names)]


def mentioned(source: bytes) -> list[str]:
    """The texts of a source, in any language, that look like the path or the name of a file."""
    texts = (match.decode("utf-8", "replace") for match in _QUOTED.findall(source))
    return list(dict.fromkeys(texts))


def places(text: str, folders: Sequence[str]) -> list[str]:
    """The paths that a relative path may mean, from each folder; none outside of the workspace."""
    joined = (posixpath.normpath(posixpath.join(folder, text)) for folder in folders)
    return [path for path in dict.fromkeys(joined) if not path.startswith(("../", "/"))]
