"""Kind ``python``: reads the source for test classes and plain functions."""

from __future__ import annotations

import ast
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from wolfbane.kinds.contract import Kind, WorkerCommand
from wolfbane.kinds.imports import ImportReader
from wolfbane.kinds.programs import holds
from wolfbane.kinds.protocols import (
    Detects,
    FollowsImports,
    HasProcessScope,
    Live,
    Relocatable,
    TakesOptions,
)
from wolfbane.kinds.python.decorator_tags import hides_tags, tags_of
from wolfbane.kinds.python.hidden import Hidden, proves_no_test
from wolfbane.kinds.python.imports import PYTHON_IMPORTS, module_roots, project_files
from wolfbane.kinds.python.interpreters import parse_source, python_worker, runtime
from wolfbane.kinds.python.project import ENVIRONMENTS, interpreter_lines, source_folder
from wolfbane.kinds.python.settings import PythonSuite
from wolfbane.kinds.python.worker.helpers import helper_functions
from wolfbane.kinds.relocation import Relocation
from wolfbane.model import Block, Tag, Test, TestFile

_Function = ast.FunctionDef | ast.AsyncFunctionDef
_LOOKS_DYNAMIC = re.compile(
    rb"load_tests|setattr\(|globals\(\)|\btype\(|exec\(|@parameter|__init_subclass__"
)


_FILES = ("test*.py", "*_test.py")
WORKER = "wolfbane.kinds.python.worker.runner"
_NAME = re.compile(r"test(?!ing).*\.py|.*_test\.py")
"""By convention, a module named ``testing`` helps others to test."""
_HOLDS_TESTS = re.compile(rb"^\s*class\s+[^\s(:]+\(.*\):|^(?:async )?def test_|load_tests", re.M)
_TEST_CLASS = re.compile(rb"^\s*class\s+[^\s(:]+\([^)]*TestCase\b[^)]*\):", re.M)


_ONLY = "runTest"
"""The method that is the test of a class without other tests."""


class PythonKind(
    Kind[PythonSuite],
    Detects[PythonSuite],
    FollowsImports[PythonSuite],
    HasProcessScope[PythonSuite],
    Live,
    Relocatable[PythonSuite],
    TakesOptions[PythonSuite],
):
    """Standard-library test classes and plain ``test_*`` functions."""

    name = "python"
    tool_folders = ENVIRONMENTS
    suite_type = PythonSuite

    def patterns(self, root: Path, suite: PythonSuite) -> Sequence[str]:
        """Test modules, and packages that may add tests."""
        return (*_FILES, "__init__.py")

    def scan(self, root: Path, suite: PythonSuite, path: str, source: bytes) -> TestFile | None:
        """Read classes and functions; tests that only loading shows make the file incomplete."""
        try:
            tree = parse_source(source)
        except (SyntaxError, ValueError) as error:
            return TestFile(path, suite.name, self.name, complete=False, error=str(error))
        reader = _ModuleReader(tree, suite.name, path)
        dynamic = _LOOKS_DYNAMIC.search(source) is not None
        if (
            not reader.tests
            and not dynamic
            and (proves_no_test(tree) or _is_a_package_of_others(root / path, source))
        ):
            return None
        hidden = Hidden(root, suite, path, tree=tree)
        complete = bool(reader.tests) and not (reader.hides_something or dynamic or hidden.any)
        return TestFile(
            path=path,
            suite=suite.name,
            kind=self.name,
            tests=tuple(reader.tests),
            blocks=tuple(reader.blocks),
            complete=complete,
            dynamic=dynamic,
            divisible=suite.divides_files,
            depends=hidden.depends,
        )

    def worker(self, root: Path, suite: PythonSuite) -> WorkerCommand:
        """The suite's own interpreter, with Wolfbane's worker for test classes."""
        return python_worker(root, suite, WORKER)

    def with_options(self, root: Path, suite: PythonSuite, options: Sequence[str]) -> PythonSuite:
        """Options of the interpreter."""
        return replace(suite, python_options=[*suite.python_options, *options])

    def runtime(self, root: Path, suite: PythonSuite) -> str:
        return runtime(root, suite)

    def relocated(self, suite: PythonSuite, to: Relocation) -> PythonSuite:
        return suite.relocated(to)

    def process_for(self, suite: PythonSuite) -> str:
        return suite.process

    def inputs(self, root: Path, suite: PythonSuite) -> Sequence[str]:
        """The project's manifests and lock files."""
        return project_files(suite)

    def import_reader(self) -> ImportReader:
        return PYTHON_IMPORTS

    def import_roots(self, root: Path, suite: PythonSuite) -> tuple[str, ...]:
        return module_roots(suite)

    def claims(self, root: Path, file: str) -> bool:
        """Modules with test names that contain a class or a test function, and packages for tests
        that contain test classes, as the standard library finds them.
        """
        folder, _, name = file.rpartition("/")
        if name == "__init__.py":
            in_tests = any(part.startswith("test") for part in folder.split("/"))
            return in_tests and holds(root / file, _TEST_CLASS)
        return _NAME.fullmatch(name) is not None and holds(root / file, _HOLDS_TESTS)

    def glob_for(self, name: str) -> str:
        if name.startswith("test"):
            return "test*.py"
        return "*_test.py"

    def detected_settings(self, root: Path, folder: str) -> dict[str, Any]:
        return source_folder(root, folder)

    def settings_lines(self, root: Path, suite: PythonSuite) -> Sequence[str]:
        return interpreter_lines(root, suite)

    def settings_hints(self, suite: PythonSuite) -> Sequence[str]:
        return (
            []
            if suite.import_path
            else ['# import_path = ["src"]       # first on the import path']
        )


class _ModuleReader:
    """Walks one module's classes and functions."""

    def __init__(self, tree: ast.Module, suite: str, path: str) -> None:
        self.suite, self.path = suite, path
        self.classes = {node.name: node for node in tree.body if isinstance(node, ast.ClassDef)}
        self.hides_something = False
        self.tests: list[Test] = []
        self.blocks: list[Block] = []
        helpers = helper_functions(tree)
        for node in tree.body:
            if isinstance(node, ast.ClassDef):
                self._class(node)
            elif isinstance(node, _Function) and _is_plain_test(node) and node.name not in helpers:
                self._add(node.name, node, (), group="")

    def _class(self, node: ast.ClassDef) -> None:
        if not self._is_test_class(node, set()):
            return
        self.hides_something |= hides_tags(node) or bool(node.keywords)
        self.blocks.append(Block(node.name, _first_line(node), node.end_lineno or node.lineno))
        tags = tuple(tags_of(node, f"class {node.name}"))
        methods = self._methods(node, set())
        if any(name != _ONLY for name in methods):
            methods.pop(_ONLY, None)  # the standard library takes it where nothing else is
        for name in sorted(methods):
            owner, function = methods[name]
            inherited = function if owner is node else node
            self._add(f"{node.name} / {name}", inherited, tags, group=node.name, function=function)

    def _add(
        self,
        name: str,
        node: _Function | ast.ClassDef,
        tags: tuple[Tag, ...],
        group: str,
        function: _Function | None = None,
    ) -> None:
        own = function or node
        self.hides_something |= hides_tags(own)
        labels = dict.fromkeys((*tags, *tags_of(own, "decorator or attribute")))
        end = node.end_lineno or node.lineno
        if isinstance(node, ast.ClassDef):
            end = node.lineno
        self.tests.append(
            Test(
                suite=self.suite,
                kind="python",
                path=self.path,
                name=name,
                line=_first_line(node),
                end=end,
                tags=tuple(labels),
                group=group,
            )
        )

    def _is_test_class(self, node: ast.ClassDef, seen: set[str]) -> bool:
        verdict = False
        for base in node.bases:
            if isinstance(base, ast.Attribute):
                name = base.attr
            else:
                name = getattr(base, "id", "")
            if name in ("TestCase", "IsolatedAsyncioTestCase"):
                verdict = True
            elif isinstance(base, ast.Name) and name in self.classes and name not in seen:
                verdict |= self._is_test_class(self.classes[name], {*seen, name})
            elif name not in ("object", "ABC", "Generic", "Protocol", "Enum", "Exception"):
                self.hides_something = True
                verdict |= bool(self._methods(node, set()))
        return verdict

    def _methods(
        self, node: ast.ClassDef, seen: set[str]
    ) -> dict[str, tuple[ast.ClassDef, _Function]]:
        """Test methods by name, a class's own before inherited ones of the same file."""
        methods: dict[str, tuple[ast.ClassDef, _Function]] = {}
        for base in reversed(node.bases):
            name = getattr(base, "id", "")
            if name in self.classes and name not in seen:
                methods.update(self._methods(self.classes[name], {*seen, name}))
        for item in node.body:
            if isinstance(item, _Function) and (item.name.startswith("test") or item.name == _ONLY):
                methods[item.name] = (node, item)
        return methods


def _is_plain_test(node: _Function) -> bool:
    """Whether a function is a test by itself. One that takes ``self`` was made to be a method."""
    receiver = ""
    if node.args.args:
        receiver = node.args.args[0].arg
    plain = node.name.startswith("test_") and node.name != "test_suite"
    return plain and receiver not in ("self", "cls")


def _is_a_package_of_others(path: Path, source: bytes) -> bool:
    """Whether a package has no test file next to its ``__init__.py``, which itself adds none.

    Its modules are not tests, and may need modules that the tests do not need.
    """
    if path.name != "__init__.py" or b"TestCase" in source or b"import *" in source:
        return False
    return not any(any(path.parent.glob(pattern)) for pattern in _FILES)


def _first_line(node: _Function | ast.ClassDef) -> int:
    return min([node.lineno, *(decorator.lineno for decorator in node.decorator_list)])


KIND = PythonKind()
