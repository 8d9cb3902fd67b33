"""Kind ``program``: any executable or script.

A file is a test, and its exit code is the outcome.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from wolfbane.kinds.compiled.sources import whole_file
from wolfbane.kinds.contract import Kind, WorkerCommand, own_process
from wolfbane.kinds.executable.settings import ExecutableSuite
from wolfbane.kinds.executable.starting import BY_SUFFIX, sources_below, start_options
from wolfbane.kinds.protocols import HasUntracedSources, Live, Relocatable, TakesOptions
from wolfbane.kinds.relocation import Relocation
from wolfbane.model import TestFile


class ProgramSuite(ExecutableSuite, frozen=True):
    """A suite of programs, each of which is a test."""


class ProgramKind(
    Kind[ProgramSuite],
    HasUntracedSources[ProgramSuite],
    Live,
    Relocatable[ProgramSuite],
    TakesOptions[ProgramSuite],
):
    """A file is a test if the settings name it, or if it is executable or has an interpreter."""

    name = "program"
    suite_type = ProgramSuite
    scan_is_exact = True

    def patterns(self, root: Path, suite: ProgramSuite) -> Sequence[str]:
        """Every file: :meth:`scan` decides."""
        return ("*",)

    def untraced(self, root: Path, suite: ProgramSuite) -> Sequence[str]:
        """The sources in the suite's folder."""
        return sources_below([suite.folder])

    def scan(self, root: Path, suite: ProgramSuite, path: str, source: bytes) -> TestFile | None:
        """A file that can be started is a test."""
        suffix = Path(path).suffix
        started_by_suffix = suffix in suite.interpreters or suffix in (*BY_SUFFIX, ".py")
        if not (path in suite.paths or started_by_suffix or os.access(root / path, os.X_OK)):
            return None
        return whole_file(root, suite, path, source=source)

    def worker(self, root: Path, suite: ProgramSuite) -> WorkerCommand:
        """A process of Wolfbane's that starts one program after the other."""
        options = start_options(root, suite)
        return WorkerCommand(
            own_process("wolfbane.kinds.program.runner"), root / suite.folder, options
        )

    def with_options(self, root: Path, suite: ProgramSuite, options: Sequence[str]) -> ProgramSuite:
        """Arguments of each program."""
        return replace(suite, arguments=[*suite.arguments, *options])

    def runtime(self, root: Path, suite: ProgramSuite) -> str:
        return "programs"

    def relocated(self, suite: ProgramSuite, to: Relocation) -> ProgramSuite:
        return suite.relocated(to)


KIND = ProgramKind()
