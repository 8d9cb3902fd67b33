"""Shows the values in a failed plain ``assert``.

Only files with plain test functions are compiled this way. Each operand of the condition is stored
in a separate variable when it is evaluated, so nothing is evaluated twice.
"""

from __future__ import annotations

import ast
import builtins
import difflib
import gc
import importlib.machinery
import importlib.util
import os
import pprint
import re
import sys
from types import CodeType

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any, Dict, List, Optional, Sequence, Set, Tuple

_PREFIX = "_wolfbane_value_"
_EXPLAIN = "_wolfbane_explain"
_LONGEST = 2000
_LOAD, _STORE = ast.Load(), ast.Store()
_PLACES = ("lineno", "col_offset", "end_lineno", "end_col_offset")
_PLAIN_TEST = re.compile(rb"(?:^|[\r\n])\f?(?:async[ \t]+)?def[ \t]+test_")
"""A test function that is not in a class, or a line of a text that looks like one."""
_files: Set[str] = set()


def install_loader(file: str) -> None:
    """Compile this file, when it is imported, with asserts that show their values."""
    if not _files:
        setattr(builtins, _EXPLAIN, explain)
        sys.meta_path.insert(0, _Finder())
    _files.add(os.path.realpath(file))


class _Finder:
    """Finds modules as usual, then loads only the selected files itself."""

    @staticmethod
    def find_spec(name: str, path: Any = None, target: Any = None) -> Any:
        spec = importlib.machinery.PathFinder.find_spec(name, path, target)
        if spec is None or not spec.origin or os.path.realpath(spec.origin) not in _files:
            return None
        if type(spec.loader) is importlib.machinery.SourceFileLoader:
            spec.loader = _AssertLoader(spec.loader.name, spec.loader.path)
        return spec


class _AssertLoader(importlib.machinery.SourceFileLoader):
    def get_code(self, fullname: str) -> Optional[CodeType]:
        with open(self.path, "rb") as source:
            data = source.read()
        # Parsing takes longer than all else of an import: only where such a line can be seen.
        if b"assert " not in data or not _PLAIN_TEST.search(data):
            return super().get_code(fullname)
        tree = ast.parse(data, self.path)
        if not _has_plain_test(tree):
            return super().get_code(fullname)
        return _compile(tree, data, self.path)


def compile_explained(data: bytes, path: str) -> CodeType:
    """Compile a source so that its asserts show their values. Raises SyntaxError."""
    return _compile(ast.parse(data, path), data, path)


def _compile(tree: ast.Module, data: bytes, path: str) -> CodeType:
    setattr(builtins, _EXPLAIN, explain)
    collecting = gc.isenabled()
    gc.disable()  # it would look through all nodes of a large file again and again
    try:
        _Rewriter(importlib.util.decode_source(data)).rewrite(tree)
        return compile(tree, path, "exec", dont_inherit=True)
    finally:
        if collecting:
            gc.enable()


def _has_plain_test(tree: ast.Module) -> bool:
    functions = (ast.FunctionDef, ast.AsyncFunctionDef)
    return any(isinstance(n, functions) and n.name.startswith("test_") for n in tree.body)


class _Rewriter:
    """Replaces the asserts of a source.

    Only statements hold asserts, so expressions are not visited: in a large file that takes most of
    the time. For the same reason every new node gets its place when it is made.
    """

    def __init__(self, source: str) -> None:
        # Split once: the standard library's own function splits the whole file for each operand.
        # The columns of nodes count bytes.
        self._lines = source.encode().split(b"\n")
        self._number = 0
        self._kept: List[Tuple[str, str]] = []

    def rewrite(self, node: ast.AST) -> None:
        """Replace the asserts in all blocks of a statement or module."""
        for block in ("body", "orelse", "finalbody"):
            statements = getattr(node, block, None)
            if isinstance(statements, list):
                setattr(node, block, self._block(statements))
        for part in ("handlers", "cases"):
            for each in getattr(node, part, ()):
                self.rewrite(each)

    def _block(self, statements: List[ast.stmt]) -> List[ast.stmt]:
        made: List[ast.stmt] = []
        for statement in statements:
            if isinstance(statement, ast.Assert):
                made += self._checked(statement)
            else:
                self.rewrite(statement)
                made.append(statement)
        return made

    def _checked(self, node: ast.Assert) -> List[ast.stmt]:
        """An assert that explains itself, and a statement that lets go of its values."""
        self._kept = []
        at = _place(node.test)
        text = self._text(node.test)
        test = self._keep_operands(node.test)
        sides: Tuple[Optional[str], ...] = (None, None)
        if isinstance(test, ast.Compare) and isinstance(test.ops[-1], ast.Eq):
            sides = (_kept_name(test.left), _kept_name(test.comparators[-1]))
        values = ast.Call(ast.Name("locals", _LOAD, **at), [], [], **at)
        message = node.msg or ast.Constant(None, **at)
        # A constant may hold tuples: one node instead of one for each text in them.
        told = ast.Constant((text, tuple(self._kept), sides), **at)  # type: ignore[arg-type]
        call = ast.Call(ast.Name(_EXPLAIN, _LOAD, **at), [told, values, message], [], **at)
        made: List[ast.stmt] = [ast.Assert(test, call, **_place(node))]
        if self._kept:  # let go of the values, so that a test of lifetimes sees no change
            at = _place(node)
            targets: List[ast.expr] = [ast.Name(name, _STORE, **at) for _, name in self._kept]
            made.append(ast.Assign(targets, ast.Constant(None, **at), **at))
        return made

    def _keep_operands(self, node: ast.expr) -> ast.expr:
        if isinstance(node, ast.BoolOp):
            node.values = [self._keep_operands(value) for value in node.values]
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            node.operand = self._keep_operands(node.operand)
        elif isinstance(node, ast.Compare):
            node.left = self._keep(node.left)
            node.comparators = [self._keep(operand) for operand in node.comparators]
        else:
            return self._keep(node)
        return node

    def _keep(self, node: ast.expr) -> ast.expr:
        if isinstance(node, (ast.Lambda, ast.NamedExpr, ast.Starred)):
            return node
        if isinstance(node, ast.Constant) and not isinstance(node.value, str):
            return node  # the text of the condition shows it
        self._number += 1
        name = f"{_PREFIX}{self._number}"
        self._kept.append((self._text(node), name))
        if isinstance(node, ast.Call):
            node.args = [self._keep(argument) for argument in node.args]
        at = _place(node)
        return ast.NamedExpr(ast.Name(name, _STORE, **at), node, **at)

    def _text(self, node: ast.expr) -> str:
        """The source of an expression on one line."""
        first, last = node.lineno - 1, (node.end_lineno or node.lineno) - 1
        lines = self._lines[first : last + 1]
        lines[-1] = lines[-1][: node.end_col_offset]
        lines[0] = lines[0][node.col_offset :]
        return " ".join(b" ".join(lines).decode(errors="replace").split())


def _place(node: ast.AST) -> Dict[str, Any]:
    return {name: getattr(node, name) for name in _PLACES}


def _kept_name(node: ast.expr) -> Optional[str]:
    if isinstance(node, ast.NamedExpr):
        return node.target.id
    return None


def explain(
    told: Tuple[str, Sequence[Tuple[str, str]], Tuple[Optional[str], Optional[str]]],
    values: Dict[str, Any],
    message: Any,
) -> str:
    """The message of a failed assert: its text, its operands, their difference.

    ``told`` has the text, then the text and the variable of each operand, then the variables of the
    two sides of a comparison.
    """
    text, names, sides = told
    if message is None:
        lines = []
    else:
        lines = [str(message)]
    lines.append(f"assertion failed: {text}")
    shown: Set[str] = set()
    for label, name in names:
        if name in values and label not in shown:
            value = _short(values[name])
            if label.replace("'", '"') != value.replace("'", '"'):
                lines.append(f"  {label} = {value}")
            shown.add(label)
    left, right = sides
    if left in values and right in values:
        lines += difference(values[left], values[right])
    return "\n".join(lines)


def difference(left: Any, right: Any) -> List[str]:
    """The lines in which two texts, lists, dicts or sets differ; empty for other values."""
    kinds = (str, list, tuple, dict, set)
    if type(left) is not type(right) or not isinstance(left, kinds) or left == right:
        return []
    if isinstance(left, str):
        before, after = left.splitlines(), right.splitlines()
        if len(before) < 2 and len(after) < 2:
            return []
    else:
        before = pprint.pformat(left, width=60).splitlines()
        after = pprint.pformat(right, width=60).splitlines()
    if len(before) + len(after) > _LONGEST:
        return []
    changed = difflib.unified_diff(after, before, "right", "left", lineterm="")
    return ["", *changed]


def _short(value: Any) -> str:
    try:
        text = repr(value)
    except Exception as error:
        return f"<its repr raised {type(error).__name__}>"
    if len(text) <= _LONGEST:
        return text
    return f"{text[:_LONGEST]}... ({len(text)} characters)"
