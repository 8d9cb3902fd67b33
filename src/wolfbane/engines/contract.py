"""What an engine is: it serves one kind of suite."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from wolfbane.model import TestFile
from wolfbane.workspace.settings import Suite

WORKERS = Path(__file__).parent.parent / "workers"


@dataclass(frozen=True)
class WorkerCommand:
    """How to start a worker: its arguments, its folder and its options."""

    arguments: Sequence[str]
    folder: Path
    options: Mapping[str, Any] = field(default_factory=dict)


class Engine(Protocol):
    """Serves one kind: finds its files and tests by reading, and says how to run them.

    ``scan_is_exact``: the source alone tells every test, so workers need not be asked.
    ``loads_afresh``: each request gets a worker of its own, so a file that is known exactly is
    not loaded twice. ``tests_hold_tests``: a test may show others while it runs, named below it.
    ``has_closing_hooks``: workers get a message when all is over, to run hooks of their own.
    ``reads_values``: workers get every parameter, as ``values`` among their options.
    ``keeps_limits``: workers end a test at its time limit themselves, and say where it was.
    """

    kind: str
    scan_is_exact: bool
    loads_afresh: bool
    tests_hold_tests: bool
    has_closing_hooks: bool
    reads_values: bool
    keeps_limits: bool

    def patterns(self, root: Path, suite: Suite) -> Sequence[str]:
        """Globs of file names that a folder of this suite is searched for."""

    def scan(self, root: Path, suite: Suite, path: str, source: bytes) -> TestFile | None:
        """The tests that the source text shows; None where the file is no test file.

        Runs none of the user's code.
        """

    def inputs(self, root: Path, suite: Suite) -> Sequence[str]:
        """Folders and globs that all tests of the suite depend on, besides what it names itself.

        What its settings leave to the kind counts as if it were written.
        """

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        """How to start a worker. Raises Missing where the runtime is not here."""

    def runtime(self, root: Path, suite: Suite) -> str:
        """The runtime's name and version, for people. Raises Missing."""


class Missing(Exception):
    """Something of the surroundings is not there: its suite is blocked. The text says what."""
