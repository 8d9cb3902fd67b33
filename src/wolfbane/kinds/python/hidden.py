"""Detects Python modules that may have tests that are visible only after loading.

The standard library's loader takes every test class of a loaded module, whatever its origin:
written in it, imported, created by a call, or defined under a condition.
"""

from __future__ import annotations

import ast
import builtins
import re
import sys
from collections.abc import Collection, Iterator, Sequence
from functools import lru_cache
from pathlib import Path

from wolfbane.basis.files import is_file
from wolfbane.kinds.python.imports import module_files, module_roots
from wolfbane.kinds.python.interpreters import parse_source
from wolfbane.kinds.python.settings import PythonSuite

_NAMED_LIKE_TESTS = re.compile(r"test|case|suite|spec", re.I)
_TEST_CODE = re.compile(rb"TestCase|unittest|import\s*\*|import_module|__import__")
_MAKES_ANYTHING = frozenset({"type", "exec", "eval", "__import__", "globals", "setattr", "vars"})
_PLAIN_CALLS = frozenset(dir(builtins)) - _MAKES_ANYTHING
_PLAIN_BASES = frozenset(dir(builtins)) | {"ABC", "Enum", "Protocol", "NamedTuple", "TypedDict"}
_Function = ast.FunctionDef | ast.AsyncFunctionDef


def proves_no_test(tree: ast.Module) -> bool:
    """Whether nothing in the source can create a test class, or prevent the module from loading.

    So there is no import, which may add a class or fail, and no call at load time.
    """
    return all(map(_is_inert, tree.body))


def _is_inert(node: ast.stmt) -> bool:
    if isinstance(node, ast.ImportFrom):
        return node.module == "__future__"
    if isinstance(node, ast.Pass) or _is_main_guard(node):
        return True
    if isinstance(node, ast.Expr | ast.Assign | ast.AnnAssign):
        return not any(_calls(node))
    if isinstance(node, _Function):
        return not node.decorator_list and not any(_calls(node.args))
    if isinstance(node, ast.ClassDef):
        plain = all(isinstance(b, ast.Name) and b.id in _PLAIN_BASES for b in node.bases)
        return (
            plain and not (node.decorator_list or node.keywords) and all(map(_is_inert, node.body))
        )
    return False


def _is_main_guard(node: ast.stmt) -> bool:
    """The body of ``if __name__ == "__main__":`` does not run when a module is loaded."""
    if not isinstance(node, ast.If) or node.orelse or not isinstance(node.test, ast.Compare):
        return False
    left = node.test.left
    return isinstance(left, ast.Name) and left.id == "__name__"


def _calls(node: ast.AST) -> Iterator[ast.Call]:
    return (inner for inner in ast.walk(node) if isinstance(inner, ast.Call))


class Hidden:
    """The tests that a module with visible tests may additionally contain.

    ``any`` means that there may be more; ``depends`` are the files of the workspace that were
    read to decide this.
    """

    def __init__(self, root: Path, suite: PythonSuite, path: str, tree: ast.Module) -> None:
        self._root, self._path, self._roots = root, path, module_roots(suite)
        self._plain = {*_PLAIN_CALLS, *_standard_names(tree)}
        self._plain.update(node.name for node in tree.body if isinstance(node, ast.ClassDef))
        self._seen: dict[tuple[str, frozenset[str]], None] = {}
        self.any = any(list(map(self._may_add, _at_load(tree.body))))  # each file is looked into
        self.depends = tuple(dict.fromkeys(file for file, _ in self._seen))

    def _may_add(self, node: ast.stmt) -> bool:
        if isinstance(node, ast.ImportFrom):
            return self._imports_tests(node, self._path, {alias.name for alias in node.names})
        if isinstance(node, ast.Assign | ast.AnnAssign) and isinstance(node.value, ast.Call):
            return _root_name(node.value.func) not in self._plain
        if isinstance(node, ast.If | ast.Try | ast.With | ast.For | ast.While):
            return any(_is_test_code(inner) for inner in ast.walk(node))
        return False

    def _imports_tests(self, node: ast.ImportFrom, path: str, names: Collection[str]) -> bool:
        """Whether one of these names, imported at ``path``, may be a test class."""
        module = "." * node.level + (node.module or "")
        if _is_standard(node):
            return False
        file = self._file_of(module, path)
        if not file:
            return "*" in names or any(map(_NAMED_LIKE_TESTS.search, names))
        if (file, frozenset(names)) in self._seen:
            return False
        self._seen[file, frozenset(names)] = None
        source = _source(self._root / file)
        if _TEST_CODE.search(source):
            return not all(self._is_module(module, name, path) for name in names)
        return any(
            self._imports_tests(inner, file, names)
            for inner in _imports_in(source)
            if any(alias.name in names or alias.asname in names for alias in inner.names)
        )

    def _file_of(self, module: str, path: str) -> str:
        """The module's own file in the workspace, or None."""
        for candidates in module_files(module, path, self._roots):
            for file in reversed(candidates[-2:]):
                if is_file(self._root / file):
                    return file
        return ""

    def _is_module(self, module: str, name: str, path: str) -> bool:
        joint = "."
        if module.endswith("."):
            joint = ""
        return name != "*" and bool(self._file_of(f"{module}{joint}{name}", path))


def _at_load(body: Sequence[ast.stmt]) -> Iterator[ast.stmt]:
    """Every statement that runs when a module is loaded, including those inside blocks."""
    for node in body:
        if _is_main_guard(node):
            continue
        yield node
        for part in ("body", "orelse", "finalbody", "handlers"):
            inner = [] if isinstance(node, ast.ClassDef | _Function) else getattr(node, part, [])
            for item in inner:
                yield from _at_load(item.body if isinstance(item, ast.ExceptHandler) else [item])


def _is_test_code(node: ast.AST) -> bool:
    """A test function, or a class with test methods."""
    if isinstance(node, ast.ClassDef):
        return any(isinstance(m, _Function) and m.name.startswith("test") for m in node.body)
    return isinstance(node, _Function) and node.name.startswith("test_")


def _standard_names(tree: ast.Module) -> Iterator[str]:
    """The names that imports from the standard library define."""
    for node in _at_load(tree.body):
        if isinstance(node, ast.Import):
            for alias in node.names:
                if alias.name.partition(".")[0] in sys.stdlib_module_names:
                    yield alias.asname or alias.name.partition(".")[0]
        elif isinstance(node, ast.ImportFrom) and _is_standard(node):
            yield from (alias.asname or alias.name for alias in node.names)


def _is_standard(node: ast.ImportFrom) -> bool:
    return not node.level and (node.module or "").partition(".")[0] in sys.stdlib_module_names


def _root_name(node: ast.expr) -> str:
    while isinstance(node, ast.Attribute | ast.Call):
        node = node.value if isinstance(node, ast.Attribute) else node.func
    if isinstance(node, ast.Constant):  # a method of a text or a number
        return "str"
    if isinstance(node, ast.Name):
        return node.id
    return ""


@lru_cache(maxsize=512)
def _source(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError:
        return b""


@lru_cache(maxsize=512)
def _imports_in(source: bytes) -> tuple[ast.ImportFrom, ...]:
    try:
        tree = parse_source(source)
    except (SyntaxError, ValueError):
        return ()
    return tuple(node for node in ast.walk(tree) if isinstance(node, ast.ImportFrom))
