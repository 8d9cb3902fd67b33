"""Finds the imports of a Python source by reading its text."""

from __future__ import annotations

import ast
from collections.abc import Callable, Iterator, Sequence

from wolfbane.kinds.python.interpreters import parse_source
from wolfbane.kinds.python.settings import InterpretedSuite

_BY_NAME = frozenset({"import_module", "__import__"})


class PythonImports:
    """Follows the imports of Python sources."""

    suffixes: tuple[str, ...] = (".py", ".pyw")

    def names(self, source: bytes) -> list[str]:
        """Dotted names of modules; relative ones start with dots."""
        return python_imports(source)

    def files(
        self, name: str, path: str, roots: Sequence[str], exists: Callable[[str], bool]
    ) -> Iterator[str]:
        """A module's own file and those of the packages around it."""
        for candidates in module_files(name, path, (*roots, path.rpartition("/")[0])):
            files = [file for file in candidates if exists(file)]
            if any(file in files for file in candidates[-2:]):
                yield from (file for file in files if file != path)
                return


PYTHON_IMPORTS = PythonImports()


def python_imports(source: bytes) -> list[str]:
    """Dotted names, relative ones with their dots; names after ``from`` also count as modules.

    Modules that are imported by a literal name in the text are found; computed names are not.
    """
    try:
        tree = parse_source(source)
    except (SyntaxError, ValueError):
        return []
    return list(dict.fromkeys(name for node in ast.walk(tree) for name in _named(node)))


def _named(node: ast.AST) -> Iterator[str]:
    if isinstance(node, ast.Import):
        yield from (alias.name for alias in node.names)
    elif isinstance(node, ast.ImportFrom):
        start = "." * node.level + (node.module or "")
        yield start
        joint = "" if start.endswith(".") else "."
        yield from (f"{start}{joint}{alias.name}" for alias in node.names if alias.name != "*")
    elif isinstance(node, ast.Call) and node.args and isinstance(node.args[0], ast.Constant):
        called = node.func
        name = called.attr if isinstance(called, ast.Attribute) else getattr(called, "id", "")
        if name in _BY_NAME and isinstance(node.args[0].value, str):
            yield node.args[0].value


def module_roots(suite: InterpretedSuite) -> tuple[str, ...]:
    """The folders in which a suite's Python finds modules, and common source folders."""
    named = [suite.modules_from, *suite.import_path, suite.folder, ".", "src"]
    named += [path for path in suite.paths if not any(mark in path for mark in "*?")]
    return tuple(dict.fromkeys("" if place == "." else place.strip("/") for place in named))


def module_files(name: str, path: str, roots: tuple[str, ...]) -> Iterator[list[str]]:
    """The files that a dotted name in ``path`` may mean: packages, then the module.

    One list for each search folder; the first with a file is used.
    """
    dots = len(name) - len(name.lstrip("."))
    parts = [part for part in name.lstrip(".").split(".") if part]
    if dots:
        folder = path.split("/")[:-1]
        folder = folder[: len(folder) - (dots - 1)]
        yield _candidates(folder, parts)
        return
    for root in roots:
        yield _candidates([part for part in root.split("/") if part not in ("", ".")], parts)


def _candidates(folder: list[str], parts: list[str]) -> list[str]:
    candidates = []
    for count in range(len(parts) + 1):
        place = "/".join([*folder, *parts[:count]])
        candidates.append(f"{place}/__init__.py" if place else "__init__.py")
    candidates.append("/".join([*folder, *parts]) + ".py" if parts else "")
    return [file for file in candidates if file]
