"""The engine of kind ``cargo``: unit, integration and documentation tests of Rust crates."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path, PurePosixPath

from wolfbane.engines.contract import WORKERS, Missing, WorkerCommand
from wolfbane.engines.programs import find_program, version_line
from wolfbane.model import Block, Test, TestFile
from wolfbane.workspace.settings import Suite

_MANIFEST = "Cargo.toml"
_CARGO_FILES = (_MANIFEST, "Cargo.lock")
_WHAT = "Rust toolchain"


class CargoEngine:
    """A test belongs to the source file that it is written in, whatever it is compiled into."""

    kind = "cargo"
    scan_is_exact = False
    loads_afresh = False
    tests_hold_tests = False
    reads_values = False
    keeps_limits = False
    has_closing_hooks = False

    def patterns(self, root: Path, suite: Suite) -> Sequence[str]:
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
            path, suite.name, self.kind, tuple(tests), tuple(blocks),
            complete=not (found.documented or found.generated), dynamic=found.generated,
        )  # fmt: skip

    def inputs(self, root: Path, suite: Suite) -> Sequence[str]:
        crates = ["" if path in (".", "") else f"{path.rstrip('/')}/" for path in suite.paths]
        return [f"{crate}**/{name}" for crate in crates for name in ("*.rs", *_CARGO_FILES)]

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        manifest = _manifest(root, suite)
        told = {
            "suite": suite.name.replace("/", "-"),
            "cargo": _toolchain(root, suite),
            "manifest": str(manifest),
            "options": suite.options,
            "ignored": suite.ignored,
        }
        return WorkerCommand([sys.executable, str(WORKERS / "cargo.py")], manifest.parent, told)

    def runtime(self, root: Path, suite: Suite) -> str:
        return " ".join(version_line(_toolchain(root, suite), _WHAT).split()[:2])


def _manifest(root: Path, suite: Suite) -> Path:
    """The manifest nearest to the suite's first path, at it or above. Raises Missing."""
    place = PurePosixPath(suite.paths[0].partition("*")[0].rstrip("/") or ".")
    for folder in (place, *place.parents):
        manifest = root / folder / _MANIFEST
        if manifest.is_file():
            return manifest
    raise Missing(f"there is no {_MANIFEST} at or above '{suite.paths[0]}'")


def _toolchain(root: Path, suite: Suite) -> str:
    return find_program(root, suite.cargo, "cargo", _WHAT)
