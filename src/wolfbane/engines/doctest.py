"""The engine of kind ``doctest``: examples in docstrings, text and Markdown files."""

from __future__ import annotations

import ast
from collections.abc import Iterator, Sequence
from pathlib import Path

from wolfbane.engines.contract import WorkerCommand
from wolfbane.engines.pythonic import parse_source, python_worker, runtime
from wolfbane.model import Test, TestFile
from wolfbane.workspace.settings import Suite

_PROMPT = ">>> "
_Documented = ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef


class DoctestEngine:
    """One test for each docstring that holds examples, one for each text file that does."""

    kind = "doctest"
    scan_is_exact = False
    loads_afresh = False
    tests_hold_tests = False
    reads_values = False
    keeps_limits = False
    has_closing_hooks = False

    def patterns(self, root: Path, suite: Suite) -> Sequence[str]:
        return ("*.py", "*.md", "*.txt", "*.rst")

    def scan(self, root: Path, suite: Suite, path: str, source: bytes) -> TestFile | None:
        if _PROMPT.encode() not in source:
            return None
        if not path.endswith(".py"):
            test = Test(suite.name, self.kind, path, "", 1, source.count(b"\n") + 1)
            return TestFile(path, suite.name, self.kind, (test,))
        try:
            tree = parse_source(source)
        except (SyntaxError, ValueError) as error:
            return TestFile(path, suite.name, self.kind, complete=False, error=str(error))
        tests = tuple(
            Test(suite.name, self.kind, path, name, line, end)
            for name, line, end in sorted(_documented(tree, ""))
        )
        return TestFile(path, suite.name, self.kind, tests, complete=b"__test__" not in source)

    def inputs(self, root: Path, suite: Suite) -> Sequence[str]:
        return ()

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        return python_worker(root, suite)

    def runtime(self, root: Path, suite: Suite) -> str:
        return runtime(root, suite)


def _documented(node: _Documented, prefix: str) -> Iterator[tuple[str, int, int]]:
    """Names with first and last line, of the docstrings inside ``node`` that hold examples."""
    text = ast.get_docstring(node, clean=False)
    if text and _PROMPT in text:
        start = 1 if isinstance(node, ast.Module) else node.lineno
        yield prefix or "(module)", start, node.body[0].end_lineno or start
    for item in node.body if isinstance(node, ast.Module | ast.ClassDef) else ():
        if isinstance(item, ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef):
            yield from _documented(item, f"{prefix} / {item.name}" if prefix else item.name)
