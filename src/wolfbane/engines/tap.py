"""The engine of kind ``tap``: any program that prints TAP; a file is a test."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Sequence
from pathlib import Path

from wolfbane.engines.contract import WORKERS, Missing, WorkerCommand
from wolfbane.engines.pythonic import interpreter
from wolfbane.model import Test, TestFile
from wolfbane.workspace.settings import Suite

_BY_SUFFIX = {".t": "perl", ".pl": "perl", ".sh": "sh", ".tcl": "tclsh"}


class TapEngine:
    """Programs in any language, found as ``*.t`` unless the suite's paths name others."""

    kind = "tap"
    scan_is_exact = True
    loads_afresh = False
    tests_hold_tests = False
    reads_values = False
    keeps_limits = False
    has_closing_hooks = False

    def patterns(self, root: Path, suite: Suite) -> Sequence[str]:
        return ("*.t",)

    def scan(self, root: Path, suite: Suite, path: str, source: bytes) -> TestFile | None:
        lines = source.count(b"\n") + 1
        test = Test(suite.name, self.kind, path, "", line=1, end=lines)
        return TestFile(path, suite.name, self.kind, (test,), divisible=False)

    def inputs(self, root: Path, suite: Suite) -> Sequence[str]:
        return [f"{path}/**/{name}" for path in _library(suite) for name in ("*.pm", "*.pl")]

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        interpreters: dict[str, list[str]] = {}
        for suffix, given in suite.interpreters.items():
            interpreters[suffix] = [given] if isinstance(given, str) else list(given)
            program = interpreters[suffix][0]
            if not shutil.which(program) and not (root / program).exists():
                raise Missing(f"there is no interpreter '{program}' for {suffix} files")
        command = [sys.executable, str(WORKERS / "tap.py")]
        told = {
            "interpreters": interpreters,
            "defaults": {**_BY_SUFFIX, ".py": interpreter(root, suite)},
            "perl_path": [str(root / path) for path in _perl_path(root, suite)],
        }
        return WorkerCommand(command, root / suite.folder, told)

    def runtime(self, root: Path, suite: Suite) -> str:
        paths = _perl_path(root, suite)
        return f"TAP programs (Perl's from {', '.join(paths)})" if paths else "TAP programs"


def _perl_path(root: Path, suite: Suite) -> list[str]:
    """Where Perl looks for modules first: what the suite says, else the checkout's own.

    That is ``lib``, or ``blib``, into which it is built, where that is not older.
    """
    start = "" if suite.folder == "." else f"{suite.folder}/"
    found = []
    for path in _library(suite):
        built = f"{path.removesuffix('lib')}blib"
        if path == f"{start}lib" and _newest(root / built) >= _newest(root / path) > 0:
            found += [f"{built}/lib", f"{built}/arch"]
        elif (root / path).is_dir():
            found.append(path)
    return found


def _library(suite: Suite) -> list[str]:
    start = "" if suite.folder == "." else f"{suite.folder}/"
    return suite.import_path or [f"{start}lib"]


def _newest(folder: Path) -> float:
    """When a file below a folder was last changed; 0 where there is none."""
    files = (path for path in folder.rglob("*") if path.is_file())
    return max((path.stat().st_mtime for path in files), default=0.0)
