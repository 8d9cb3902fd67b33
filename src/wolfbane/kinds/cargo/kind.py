"""Kind ``cargo``: unit, integration and documentation tests of Rust crates."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from pathlib import Path, PurePosixPath

from msgspec.structs import replace

from wolfbane.kinds.cargo.inputs import MANIFEST, crate_files
from wolfbane.kinds.cargo.settings import CargoSuite
from wolfbane.kinds.contract import Kind, MissingRuntime, WorkerCommand, own_process
from wolfbane.kinds.programs import find_program, version_line
from wolfbane.kinds.protocols import CanFailToBuild, Detects, Relocatable, TakesOptions
from wolfbane.kinds.relocation import Relocation
from wolfbane.model import Block, Test, TestFile

_WHAT = "Rust toolchain"
_PATIENCE = 20.0


class CargoKind(
    Kind[CargoSuite],
    CanFailToBuild[CargoSuite],
    Detects[CargoSuite],
    Relocatable[CargoSuite],
    TakesOptions[CargoSuite],
):
    """A test belongs to its source file, not to the program that contains it."""

    name = "cargo"
    suite_type = CargoSuite

    def patterns(self, root: Path, suite: CargoSuite) -> Sequence[str]:
        """Rust sources."""
        return ("*.rs",)

    def scan(self, root: Path, suite: CargoSuite, path: str, source: bytes) -> TestFile | None:
        """Read test functions; a file may belong to several programs."""
        from wolfbane.kinds.cargo.source import read

        items = read(source)
        if items is None:
            own_main = b"fn main" in source and "tests/" in path
            if own_main:
                return TestFile(path, suite.name, self.name, complete=False)
            return None
        tests = [
            Test(
                suite=suite.name,
                kind=self.name,
                path=path,
                name=item.name,
                line=item.line,
                end=item.end,
            )
            for item in items.declared
            if not item.is_module
        ]
        blocks = [Block(i.name, i.line, i.end) for i in items.declared if i.is_module]
        return TestFile(
            path=path,
            suite=suite.name,
            kind=self.name,
            tests=tuple(tests),
            blocks=tuple(blocks),
            complete=not (items.documented or items.generated),
            dynamic=items.generated,
        )

    def inputs(self, root: Path, suite: CargoSuite) -> Sequence[str]:
        """All sources and manifests of the crates, and what they include."""
        return crate_files(root, suite)

    def worker(self, root: Path, suite: CargoSuite) -> WorkerCommand:
        """A process of Wolfbane's that calls the toolchain."""
        manifest = _manifest(root, suite)
        options = {
            "suite": suite.name.replace("/", "-"),
            "cargo": _toolchain(root, suite),
            "manifest": str(manifest),
            "options": suite.options,
            "ignored": suite.ignored,
        }
        return WorkerCommand(own_process("wolfbane.kinds.cargo.runner"), manifest.parent, options)

    def relocated(self, suite: CargoSuite, to: Relocation) -> CargoSuite:
        return replace(suite, cargo=to.program(suite.cargo))

    manifest = True

    def claims(self, root: Path, file: str) -> bool:
        """Crates' manifests."""
        return file.rpartition("/")[2] == MANIFEST

    def settings_hints(self, suite: CargoSuite) -> Sequence[str]:
        return ['# options = ["--all-features"]']

    def with_options(self, root: Path, suite: CargoSuite, options: Sequence[str]) -> CargoSuite:
        """Options of the toolchain's build."""
        return replace(suite, options=[*suite.options, *options])

    def trouble(self, root: Path, suite: CargoSuite) -> str:
        """A wrong manifest, or dependencies that were not downloaded."""
        from wolfbane.kinds.cargo.runner.crates import reason_of

        try:
            told = _offline(root, suite)
        except subprocess.TimeoutExpired:
            return f"cargo metadata did not end within {_PATIENCE:g} s"
        except MissingRuntime:
            return ""  # reported as missing
        if told.returncode:
            return " ".join(reason_of(told.stderr, "cargo").split())
        return ""

    def runtime(self, root: Path, suite: CargoSuite) -> str:
        return " ".join(version_line(_toolchain(root, suite), _WHAT).split()[:2])


def _offline(root: Path, suite: CargoSuite) -> subprocess.CompletedProcess[str]:
    """The toolchain's answer about the manifests and dependencies, without any download."""
    command = [
        _toolchain(root, suite),
        "metadata",
        "--offline",
        "--format-version",
        "1",
        "--manifest-path",
        str(_manifest(root, suite)),
    ]
    return subprocess.run(
        command,
        capture_output=True,
        text=True,
        check=False,
        timeout=_PATIENCE,
        stdin=subprocess.DEVNULL,
    )


def _manifest(root: Path, suite: CargoSuite) -> Path:
    """The manifest nearest to the suite's first path, in its folder or above.

    Raises MissingRuntime.
    """
    path = PurePosixPath(suite.paths[0].partition("*")[0].rstrip("/") or ".")
    for folder in (path, *path.parents):
        manifest = root / folder / MANIFEST
        if manifest.is_file():
            return manifest
    raise MissingRuntime(f"no {MANIFEST} found in '{suite.paths[0]}' or the folders above it")


def _toolchain(root: Path, suite: CargoSuite) -> str:
    return find_program(root, suite.cargo, "cargo", what=_WHAT)


KIND = CargoKind()
