"""Kind ``doctest``: examples in docstrings, text and Markdown files."""

from __future__ import annotations

import ast
import re
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

from msgspec import structs
from msgspec.structs import replace

from wolfbane.basis.toml_lines import Location
from wolfbane.errors import did_you_mean
from wolfbane.kinds.contract import Kind, WorkerCommand
from wolfbane.kinds.imports import PYTHON, ImportReader, ModuleSearch, SourceImports
from wolfbane.kinds.protocols import FollowsImports, Live, Relocatable, TakesOptions
from wolfbane.kinds.python.imports import PYTHON_IMPORTS, module_roots, project_files
from wolfbane.kinds.python.interpreters import parse_source, python_worker, runtime
from wolfbane.kinds.python.settings import PythonSuite
from wolfbane.kinds.relocation import Relocation
from wolfbane.model import Test, TestFile

_WORKER = "wolfbane.kinds.doctest.worker.runner"
_PROMPT = ">>> "
_Documented = ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef


class DoctestSuite(PythonSuite, frozen=True):
    """A suite of examples. ``options`` are names of the doctest module's option flags."""

    options: list[str] = []


class DoctestKind(
    Kind[DoctestSuite],
    FollowsImports[DoctestSuite],
    Live,
    Relocatable[DoctestSuite],
    TakesOptions[DoctestSuite],
):
    """One test for each docstring with examples, and one for each text file with examples."""

    name = "doctest"
    suite_type = DoctestSuite

    def patterns(self, root: Path, suite: DoctestSuite) -> Sequence[str]:
        """Modules, and texts that may contain examples."""
        return ("*.py", "*.md", "*.txt", "*.rst")

    def scan(self, root: Path, suite: DoctestSuite, path: str, source: bytes) -> TestFile | None:
        """A test for each docstring with examples, or the whole text."""
        if _PROMPT.encode() not in source:
            return None
        if not path.endswith(".py"):
            test = Test(
                suite=suite.name,
                kind=self.name,
                path=path,
                name="",
                line=1,
                end=source.count(b"\n") + 1,
            )
            return TestFile(path=path, suite=suite.name, kind=self.name, tests=(test,))
        try:
            tree = parse_source(source)
        except (SyntaxError, ValueError) as error:
            return TestFile(path, suite.name, self.name, complete=False, error=str(error))
        tests = tuple(
            Test(suite=suite.name, kind=self.name, path=path, name=name, line=line, end=end)
            for name, line, end in sorted(_documented(tree, ""))
        )
        return TestFile(
            path=path,
            suite=suite.name,
            kind=self.name,
            tests=tests,
            complete=b"__test__" not in source,
        )

    def worker(self, root: Path, suite: DoctestSuite) -> WorkerCommand:
        """The suite's own interpreter, with Wolfbane's worker for examples."""
        command = python_worker(root, suite, _WORKER)
        return structs.replace(command, options={**command.options, "options": suite.options})

    def with_options(self, root: Path, suite: DoctestSuite, options: Sequence[str]) -> DoctestSuite:
        """Options of the interpreter."""
        return replace(suite, python_options=[*suite.python_options, *options])

    def runtime(self, root: Path, suite: DoctestSuite) -> str:
        return runtime(root, suite)

    def wrong_settings(
        self, root: Path, suite: DoctestSuite, parameters: Collection[str]
    ) -> Iterator[tuple[Location, str]]:
        from doctest import OPTIONFLAGS_BY_NAME

        for option in suite.options:
            if option not in OPTIONFLAGS_BY_NAME:
                hint = did_you_mean(option, OPTIONFLAGS_BY_NAME)
                yield ("options",), f"unknown option '{option}'; {hint}"

    def relocated(self, suite: DoctestSuite, to: Relocation) -> DoctestSuite:
        return suite.relocated(to)

    def inputs(self, root: Path, suite: DoctestSuite) -> Sequence[str]:
        """The project's manifests and lock files."""
        return project_files(suite)

    def import_reader(self) -> ImportReader:
        return DOCTEST_IMPORTS

    def import_roots(self, root: Path, suite: DoctestSuite) -> tuple[str, ...]:
        return module_roots(suite)


def _documented(node: _Documented, prefix: str) -> Iterator[tuple[str, int, int]]:
    """Names with first and last line of the docstrings inside ``node`` that contain examples."""
    text = ast.get_docstring(node, clean=False)
    if text and _PROMPT in text:
        start = 1
        if not isinstance(node, ast.Module):
            start = node.lineno
        yield prefix or "(module)", start, node.body[0].end_lineno or start
    if isinstance(node, ast.Module | ast.ClassDef):
        for item in node.body:
            if isinstance(item, ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef):
                yield from _documented(item, f"{prefix} / {item.name}" if prefix else item.name)


KIND = DoctestKind()


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
