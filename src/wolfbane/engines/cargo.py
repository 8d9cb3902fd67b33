"""The engine of kind ``cargo``: unit, integration and documentation tests of Rust crates."""

from __future__ import annotations

import shutil
import subprocess
import sys
from collections.abc import Sequence
from functools import cache
from pathlib import Path, PurePosixPath

from wolfbane.engines.contract import WORKERS, Missing, WorkerCommand
from wolfbane.model import Block, Test, TestFile
from wolfbane.workspace.settings import Suite

_MANIFEST = "Cargo.toml"


class CargoEngine:
    """A test belongs to the source file that it is written in, whatever it is compiled into."""

    kind = "cargo"
    scan_is_exact = False
    loads_afresh = False
    tests_hold_tests = False
    has_closing_hooks = False

    def patterns(self, suite: Suite) -> Sequence[str]:
        return ("*.rs",)

    def scan(self, root: Path, suite: Suite, path: str, source: bytes) -> TestFile | None:
        from wolfbane.engines.rust import read

        found = read(source)
        if found is None:
            own_main = b"fn main" in source and "tests/" in path
            return TestFile(path, suite.name, self.kind, complete=False) if own_main else None
        tests = [
            Test(suite.name, self.kind, path, item.name, item.line, item.end)
            for item in found.declared
            if not item.is_module
        ]
        blocks = [Block(i.name, i.line, i.end) for i in found.declared if i.is_module]
        return TestFile(
            path, suite.name, self.kind, tuple(tests), tuple(blocks), complete=not found.documented
        )

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        manifest = _manifest(root, suite)
        told = {
            "cargo": _toolchain(root, suite),
            "manifest": str(manifest),
            "options": suite.options,
            "run_ignored": suite.run_ignored,
        }
        return WorkerCommand([sys.executable, str(WORKERS / "cargo.py")], manifest.parent, told)

    def runtime(self, root: Path, suite: Suite) -> str:
        return _version(_toolchain(root, suite))


def _manifest(root: Path, suite: Suite) -> Path:
    """The manifest nearest to the suite's first path, at it or above. Raises Missing."""
    place = PurePosixPath(suite.paths[0].partition("*")[0].rstrip("/") or ".")
    for folder in (place, *place.parents):
        manifest = root / folder / _MANIFEST
        if manifest.is_file():
            return manifest
    raise Missing(f"there is no {_MANIFEST} at or above '{suite.paths[0]}'")


def _toolchain(root: Path, suite: Suite) -> str:
    wanted = suite.cargo or "cargo"
    local = root / wanted
    found = str(local) if suite.cargo and local.is_file() else shutil.which(wanted)
    if not found:
        raise Missing(
            f"there is no Rust toolchain '{wanted}' (install cargo, or set the suite's 'cargo')"
        )
    return found


@cache
def _version(program: str) -> str:
    try:
        run = subprocess.run(
            [program, "--version"], capture_output=True, text=True, timeout=60, check=True
        )
    except (OSError, subprocess.SubprocessError) as error:
        raise Missing(f"the Rust toolchain '{program}' does not start: {error}") from None
    return " ".join(run.stdout.split()[:2])
