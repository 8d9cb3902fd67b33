"""The engine of kind ``tap``: any program that prints TAP; a file is a test."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Sequence
from pathlib import Path

from wolfbane.engines.contract import WORKERS, Missing, WorkerCommand
from wolfbane.model import Test, TestFile
from wolfbane.workspace.settings import Suite

_BY_SUFFIX = {".t": "perl", ".pl": "perl", ".sh": "sh", ".tcl": "tclsh", ".py": sys.executable}


class TapEngine:
    """Programs in any language, found as ``*.t`` unless the suite's paths name others."""

    kind = "tap"
    scan_is_exact = True
    loads_afresh = False
    tests_hold_tests = False
    reads_values = False
    has_closing_hooks = False

    def patterns(self, root: Path, suite: Suite) -> Sequence[str]:
        return ("*.t",)

    def scan(self, root: Path, suite: Suite, path: str, source: bytes) -> TestFile | None:
        lines = source.count(b"\n") + 1
        test = Test(suite.name, self.kind, path, "", line=1, end=lines)
        return TestFile(path, suite.name, self.kind, (test,), divisible=False)

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        interpreters: dict[str, list[str]] = {}
        for suffix, given in suite.interpreters.items():
            interpreters[suffix] = [given] if isinstance(given, str) else list(given)
            program = interpreters[suffix][0]
            if not shutil.which(program) and not (root / program).exists():
                raise Missing(f"there is no interpreter '{program}' for {suffix} files")
        command = [sys.executable, str(WORKERS / "tap.py")]
        return WorkerCommand(
            command, root / suite.folder, {"interpreters": interpreters, "defaults": _BY_SUFFIX}
        )

    def runtime(self, root: Path, suite: Suite) -> str:
        return "TAP programs"
