"""Finds the imports of a Python source by reading its text."""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterator
from itertools import chain

from wolfbane.kinds.imports import PYTHON, ModuleSearch, SourceImports, beside
from wolfbane.kinds.python.interpreters import parse_source
from wolfbane.kinds.python.settings import InterpretedSuite

_BY_NAME = frozenset({"import_module", "__import__", "run_module"})
"""Functions that import the module whose name is their first argument."""
_BY_PATH = frozenset({"run_path", "spec_from_file_location", "SourceFileLoader"})
"""Functions that run a file. A path in their text is found as one that the source mentions."""
_OWN_PACKAGE = ("__package__", "__name__")
_PROJECT_FILES = (
    "pyproject.toml",
    "setup.py",
    "setup.cfg",
    "requirements*.txt",
    "*.lock",
    "pylock*.toml",
    "Pipfile",
    ".python-version",
)
_SEARCH_PATH = (b"sys.path", b"addsitedir", b"__path__")


class PythonImports:
    """Follows the imports of Python sources."""

    suffixes: tuple[str, ...] = PYTHON

    def read(self, path: str, source: bytes) -> SourceImports:
        """Dotted names of modules; relative ones start with dots.

        The packages around a file are loaded before it, so they count as imported.
        """
        try:
            tree = parse_source(source)
        except (SyntaxError, ValueError):
            return SourceImports()
        nodes = list(ast.walk(tree))
        around = ("." * count for count in range(1, path.count("/") + 1))
        names = chain(around, chain.from_iterable(map(_named, nodes)))
        unclear = next(filter(None, map(_unclear, nodes)), "")
        widens = any(word in source for word in _SEARCH_PATH)
        return SourceImports(tuple(dict.fromkeys(names)), widens, unclear)

    def files(self, name: str, path: str, search: ModuleSearch) -> Iterator[str]:
        """A module's own file and those of the packages around it."""
        if name.endswith("*"):
            yield from _starting_with(name.removesuffix("*"), path, search)
            return
        imported: dict[str, None] = {}
        for candidates in module_files(name, path, (*search.roots, path.rpartition("/")[0])):
            files = [file for file in candidates if search.tree.exists(file)]
            if any(file in files for file in candidates[-2:]):
                imported.update(dict.fromkeys(files))
                break
        is_library = name.partition(".")[0] in sys.stdlib_module_names
        if not name.startswith(".") and (search.widened or not (imported or is_library)):
            imported.update(dict.fromkeys(_anywhere(name, search)))
        yield from (file for file in imported if file != path)


PYTHON_IMPORTS = PythonImports()


def _named(node: ast.AST) -> Iterator[str]:
    if isinstance(node, ast.Import):
        yield from (alias.name for alias in node.names)
    elif isinstance(node, ast.ImportFrom):
        start = "." * node.level + (node.module or "")
        yield start
        joint = "."
        if start.endswith("."):
            joint = ""
        yield from (f"{start}{joint}{alias.name}" for alias in node.names if alias.name != "*")
    elif isinstance(node, ast.Call) and node.args and _called(node) in _BY_NAME:
        start, is_whole = _imported(node)
        if start:
            yield start if is_whole else f"{start}*"


def _unclear(node: ast.AST) -> str:
    """An import of which the text shows not even the beginning of a name."""
    if not isinstance(node, ast.Call) or not node.args:
        return ""
    name, argument = _called(node), node.args[0]
    if name in _BY_PATH:
        argument = node.args[-1]
        if any(isinstance(part, ast.Constant) for part in ast.walk(argument)):
            return ""
    elif name not in _BY_NAME or _imported(node)[0]:
        return ""
    return f"line {node.lineno}: {name}({ast.unparse(argument)})"


def _called(node: ast.Call) -> str:
    called = node.func
    if isinstance(called, ast.Attribute):
        return called.attr
    return getattr(called, "id", "")


def _imported(node: ast.Call) -> tuple[str, bool]:
    """The known beginning of an imported name, and whether it is the whole name."""
    start, is_whole = _beginning(node.args[0])
    others = [*node.args[1:], *(keyword.value for keyword in node.keywords)]
    if not start.startswith(".") or not others or getattr(others[0], "id", "") in _OWN_PACKAGE:
        return start, is_whole
    package, is_known = _beginning(others[0])
    if is_known:
        return (f"{package}{start}", is_whole)
    return ("", False)


def _beginning(node: ast.expr) -> tuple[str, bool]:
    """The known beginning of a text, and whether it is the whole text."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value, True
    if isinstance(node, ast.JoinedStr) and node.values:
        return _beginning(node.values[0])[0], False
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        return _beginning(node.left)[0], False
    return "", False


def _anywhere(name: str, search: ModuleSearch) -> Iterator[str]:
    """Files in any folder that a dotted name may mean."""
    tail = name.replace(".", "/")
    for path in (f"{tail}.py", f"{tail}/__init__.py"):
        for file in search.tree.named(path.rpartition("/")[2]):
            if file == path or file.endswith(f"/{path}"):
                yield from _packages(file, search)


def _packages(file: str, search: ModuleSearch) -> Iterator[str]:
    """The files of the packages around a module, and the module."""
    folder = file.rpartition("/")[0]
    while folder and search.tree.exists(f"{folder}/__init__.py"):
        yield f"{folder}/__init__.py"
        folder = folder.rpartition("/")[0]
    yield file


def _starting_with(name: str, path: str, search: ModuleSearch) -> Iterator[str]:
    """All modules whose dotted name starts with a text."""
    start = name.rpartition(".")[2]
    package = name[: len(name) - len(start)]
    dots, here = len(package) - len(package.lstrip(".")), path.split("/")[:-1]
    if dots:
        tops = [here[: len(here) - dots + 1]]
    else:
        tops = [root.split("/") for root in search.roots]
    for top in tops:
        parts = [*top, *package.split(".")]
        folder = "/".join(part for part in parts if part not in ("", "."))
        for file in search.tree.below(folder):
            inside = file[len(folder) :].lstrip("/")
            if file != path and file.endswith(".py") and inside.startswith(start):
                yield file


def project_files(suite: InterpretedSuite) -> list[str]:
    """The manifests and lock files that a Python suite depends on."""
    return beside(suite, _PROJECT_FILES)


def module_roots(suite: InterpretedSuite) -> tuple[str, ...]:
    """The folders in which a suite's Python finds modules, and common source folders."""
    named = [suite.modules_from, *suite.import_path, suite.folder, ".", "src"]
    named += [path for path in suite.paths if not any(mark in path for mark in "*?")]
    return tuple(dict.fromkeys("" if folder == "." else folder.strip("/") for folder in named))


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
        path = "/".join([*folder, *parts[:count]])
        candidates.append(f"{path}/__init__.py" if path else "__init__.py")
    candidates.append("/".join([*folder, *parts]) + ".py" if parts else "")
    return [file for file in candidates if file]
