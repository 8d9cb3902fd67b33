"""Kind ``node``: files that use the runtime's test module, or global ``describe`` and ``it``."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from wolfbane.kinds.contract import HOME, Kind, MissingRuntime, WorkerCommand
from wolfbane.kinds.imports import ImportReader, ModuleSearch, beside
from wolfbane.kinds.node.imports import JavaScriptImports
from wolfbane.kinds.programs import find_program, holds, version_line
from wolfbane.kinds.protocols import (
    Detects,
    FollowsImports,
    HasProcessScope,
    NestsTests,
    Relocatable,
    TakesOptions,
)
from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.source_tree import SourceTree
from wolfbane.kinds.suite import Suite
from wolfbane.model import Block, Test, TestFile

_HOME = HOME / "node" / "worker"
_OLDEST = 20
_PROJECT_FILES = (
    "package.json",
    "package-lock.json",
    "npm-shrinkwrap.json",
    "*.lock",
    "*-lock.yaml",
    ".npmrc",
    ".node-version",
    "tsconfig*.json",
)
_WHAT = "Node.js runtime"
_TEST_NAME = re.compile(r"(^|.*[.\-_])test\.[cm]?[jt]s$|^test-.*\.[cm]?[jt]s$")
_MODULE = b"node:test"
_USES_MODULE = re.compile(rb"""(?:from|require\()\s*['"]node:test['"]""")
_FOCUS_OPTION = "--test-only"
_SUFFIXES = (".js", ".mjs", ".cjs")
_BARE_WORDS = re.compile(rb"^\s*(?:describe|it|context)(?:\.\w+)*\s*\(\s*['\"`]", re.M)
_IMPORTS_WORDS = re.compile(
    rb"(?:import\b[^;]*|=\s*)\b(?:describe|it)\b[^;]*\bfrom\b|"
    rb"\{[^}]*\b(?:describe|it)\b[^}]*\}\s*=\s*require"
)


class NodeSuite(Suite, frozen=True):
    """A suite of JavaScript files. ``options`` go to the runtime.

    With ``bare_words``, files may use ``describe`` and ``it`` without importing them.
    """

    node: str = ""
    options: list[str] = []
    bare_words: bool = False


class NodeKind(
    Kind[NodeSuite],
    Detects[NodeSuite],
    FollowsImports[NodeSuite],
    HasProcessScope[NodeSuite],
    NestsTests,
    Relocatable[NodeSuite],
    TakesOptions[NodeSuite],
):
    """Wraps the test module for exact selection. Each file runs in its own process."""

    name = "node"
    tool_folders = ("node_modules",)
    suite_type = NodeSuite
    process = "file"

    def patterns(self, root: Path, suite: NodeSuite) -> Sequence[str]:
        """JavaScript modules with all three extensions."""
        return ("*.js", "*.mjs", "*.cjs")

    def scan(self, root: Path, suite: NodeSuite, path: str, source: bytes) -> TestFile:
        """Read calls of the test module; tests that only running shows make the file incomplete."""
        from wolfbane.kinds.node.source import read

        named = _TEST_NAME.match(path.rpartition("/")[2]) is not None
        mentioned = _MODULE in source or (suite.bare_words and b"(" in source)
        declared = None
        if mentioned:
            declared = read(source, global_words=suite.bare_words)
        if declared is None:
            sure = named or _MODULE in source
            looked_into, brings = ((), True) if sure else _brought(root, path, source)
            return TestFile(
                path,
                suite.name,
                self.name,
                complete=not brings,
                dynamic=brings,
                depends=looked_into,
            )
        tests = [
            Test(
                suite=suite.name,
                kind=self.name,
                path=path,
                name=item.name,
                line=item.line,
                end=item.end,
            )
            for item in declared.declared
            if not item.is_suite
        ]
        blocks = [
            Block(item.name, item.line, item.end) for item in declared.declared if item.is_suite
        ]
        return TestFile(
            path=path,
            suite=suite.name,
            kind=self.name,
            tests=tuple(tests),
            blocks=tuple(blocks),
            complete=bool(tests) and not declared.dynamic,
            dynamic=declared.dynamic,
            only_marks=declared.only_marks,
        )

    def worker(self, root: Path, suite: NodeSuite) -> WorkerCommand:
        """The runtime with Wolfbane's reporter and worker."""
        command = [
            _runtime(root, suite),
            *suite.options,
            f"--test-reporter={_HOME / 'reporter.cjs'}",
            "--test-reporter-destination=stdout",
            str(_HOME / "main.cjs"),
        ]
        options = {
            "options": suite.options,
            "bare_words": suite.bare_words,
            "focus": suite.bare_words or _FOCUS_OPTION in suite.options,
        }
        return WorkerCommand(command, root / suite.folder, options)

    def with_options(self, root: Path, suite: NodeSuite, options: Sequence[str]) -> NodeSuite:
        """Options of the runtime."""
        return replace(suite, options=[*suite.options, *options])

    def runtime(self, root: Path, suite: NodeSuite) -> str:
        return f"Node.js {_version(_runtime(root, suite))}"

    def relocated(self, suite: NodeSuite, to: Relocation) -> NodeSuite:
        return replace(suite, node=to.program(suite.node))

    def import_reader(self) -> ImportReader:
        return JavaScriptImports()

    def inputs(self, root: Path, suite: NodeSuite) -> Sequence[str]:
        """The project's manifests and lock files."""
        return beside(suite, _PROJECT_FILES)

    def claims(self, root: Path, file: str) -> bool:
        """Files that import the test module of the runtime."""
        return file.endswith(_SUFFIXES) and holds(root / file, _USES_MODULE)

    def would_claim(self, root: Path, file: str) -> Mapping[str, Any]:
        """Files that use the words of tests without an import need ``bare_words``."""
        bare = file.endswith(_SUFFIXES) and holds(root / file, _BARE_WORDS)
        if not bare or holds(root / file, _IMPORTS_WORDS):
            return {}
        return {"bare_words": True}

    def settings_hints(self, suite: NodeSuite) -> Sequence[str]:
        return [
            '# options = ["--import", "./loader.mjs"]',
            *([] if suite.bare_words else ["# bare_words = true  # describe, it"]),
        ]

    def settings_lines(self, root: Path, suite: NodeSuite) -> Sequence[str]:
        return ["bare_words = true            # describe, it, ..."] if suite.bare_words else []


def _brought(root: Path, path: str, source: bytes) -> tuple[tuple[str, ...], bool]:
    """The files of the workspace that a file imports, and whether one uses the test module.

    A file may take its test function from another one.
    """
    reader, search = JavaScriptImports(), ModuleSearch(SourceTree(root))
    seen: dict[str, None] = {}
    waiting = [(path, source)]
    while waiting:
        brought, text = waiting.pop()
        relative = [n for n in reader.read(brought, text).names if n.startswith(".")]
        for file in (file for name in relative for file in reader.files(name, brought, search)):
            if file in seen or file == path:
                continue
            seen[file] = None
            text = search.tree.content(file)
            if _MODULE in text:
                return tuple(seen), True
            waiting.append((file, text))
    return tuple(seen), False


def _runtime(root: Path, suite: NodeSuite) -> str:
    """The runtime's program in a supported version. Raises MissingRuntime."""
    runtime = find_program(root, suite.node, "node", what=_WHAT)
    version = _version(runtime)
    if int(version.partition(".")[0]) < _OLDEST:
        raise MissingRuntime(
            f"'{runtime}' is Node.js {version}; version {_OLDEST} or newer is required"
        )
    return runtime


def _version(program: str) -> str:
    version = version_line(program, _WHAT).removeprefix("v")
    if not re.match(r"\d+\.", version):
        raise MissingRuntime(f"'{program}' is not a {_WHAT}; it reports version '{version}'")
    return version


KIND = NodeKind()
