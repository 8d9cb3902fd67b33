"""Finds the imports of the examples in documentation."""

from __future__ import annotations

import re
from collections.abc import Iterator

from wolfbane.kinds.imports import PYTHON, ModuleSearch, SourceImports
from wolfbane.kinds.python.imports import PYTHON_IMPORTS

_EXAMPLE = re.compile(rb"^\s*(?:>>>|\.\.\.) ((?:import|from)\s[^\n]*)", re.M)


class DoctestImports:
    """Follows the imports of examples: those in texts, and those in the docstrings of modules."""

    suffixes: tuple[str, ...] = (*PYTHON, ".txt", ".rst", ".md")

    def read(self, path: str, source: bytes) -> SourceImports:
        """Dotted names of modules, as in Python sources."""
        own = SourceImports()
        if path.endswith(PYTHON):
            own = PYTHON_IMPORTS.read(path, source)
        names = dict.fromkeys(own.names)
        for line in _EXAMPLE.findall(source):
            names.update(dict.fromkeys(PYTHON_IMPORTS.read("", line).names))
        return SourceImports(tuple(names), own.widens or b"sys.path" in source, own.unclear)

    def files(self, name: str, path: str, search: ModuleSearch) -> Iterator[str]:
        """A module's own file and those of the packages around it."""
        return PYTHON_IMPORTS.files(name, path, search)


DOCTEST_IMPORTS = DoctestImports()
