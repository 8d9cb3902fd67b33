"""The engine of kind ``node``: files for the runtime's own test module, or bare words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from wolfbane.engines.contract import WORKERS, Missing, WorkerCommand
from wolfbane.engines.programs import find_program, version_line
from wolfbane.files import is_file
from wolfbane.model import Block, Test, TestFile
from wolfbane.workspace.settings import Suite

_HOME = WORKERS / "node"
_OLDEST = 20
_WHAT = "Node.js runtime"
_TEST_NAME = re.compile(r"(^|.*[.\-_])test\.[cm]?[jt]s$|^test-.*\.[cm]?[jt]s$")
_MODULE = b"node:test"
_FOCUS_OPTION = "--test-only"


class NodeEngine:
    """Exact selection through wrappers around the test module; a process for each file."""

    kind = "node"
    scan_is_exact = False
    loads_afresh = True
    tests_hold_tests = True
    reads_values = False
    keeps_limits = False
    has_closing_hooks = False

    def patterns(self, root: Path, suite: Suite) -> Sequence[str]:
        return ("*.js", "*.mjs", "*.cjs")

    def scan(self, root: Path, suite: Suite, path: str, source: bytes) -> TestFile:
        from wolfbane.engines.javascript import read

        named = _TEST_NAME.match(path.rpartition("/")[2]) is not None
        mentioned = _MODULE in source or (suite.bare_words and b"(" in source)
        declared = read(source, global_words=suite.bare_words) if mentioned else None
        if declared is None:
            sure = named or _MODULE in source
            looked_into, brings = ((), True) if sure else _brought(root, path, source)
            return TestFile(
                path, suite.name, self.kind, complete=not brings, dynamic=brings,
                depends=looked_into,
            )  # fmt: skip
        tests = [
            Test(suite.name, self.kind, path, item.name, item.line, item.end)
            for item in declared.declared
            if not item.is_suite
        ]
        blocks = [
            Block(item.name, item.line, item.end) for item in declared.declared if item.is_suite
        ]
        return TestFile(
            path, suite.name, self.kind, tuple(tests), tuple(blocks),
            complete=bool(tests) and not declared.dynamic, dynamic=declared.dynamic,
        )  # fmt: skip

    def inputs(self, root: Path, suite: Suite) -> Sequence[str]:
        return ()

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        command = [
            _runtime(root, suite),
            *suite.options,
            f"--test-reporter={_HOME / 'reporter.cjs'}",
            "--test-reporter-destination=stdout",
            str(_HOME / "main.cjs"),
        ]
        told = {
            "options": suite.options,
            "bare_words": suite.bare_words,
            "focus": suite.bare_words or _FOCUS_OPTION in suite.options,
        }
        return WorkerCommand(command, root / suite.folder, told)

    def runtime(self, root: Path, suite: Suite) -> str:
        return f"Node.js {_version(_runtime(root, suite))}"


def _brought(root: Path, path: str, source: bytes) -> tuple[tuple[str, ...], bool]:
    """The files of the workspace that a file imports, and whether one uses the test module.

    A file may take its test function from another one.
    """
    from wolfbane.engines.javascript_imports import javascript_imports, specifier_files

    seen: dict[str, None] = {}
    waiting = [(path, source)]
    while waiting:
        place, text = waiting.pop()
        for specifier in javascript_imports(text):
            file = next((f for f in specifier_files(specifier, place) if is_file(root / f)), "")
            if not file or file in seen or file == path:
                continue
            seen[file] = None
            text = (root / file).read_bytes()
            if _MODULE in text:
                return tuple(seen), True
            waiting.append((file, text))
    return tuple(seen), False


def _runtime(root: Path, suite: Suite) -> str:
    """The runtime's program, new enough. Raises Missing."""
    found = find_program(root, suite.node, "node", _WHAT)
    version = _version(found)
    if int(version.partition(".")[0]) < _OLDEST:
        raise Missing(f"'{found}' is Node.js {version}; {_OLDEST} or newer is needed")
    return found


def _version(program: str) -> str:
    said = version_line(program, _WHAT).removeprefix("v")
    if not re.match(r"\d+\.", said):
        raise Missing(f"'{program}' is no {_WHAT}: it says its version is '{said}'")
    return said
