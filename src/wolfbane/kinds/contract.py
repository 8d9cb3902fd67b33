"""The interface of a kind: everything that Wolfbane needs to know about its suites."""

from __future__ import annotations

import sys
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, ClassVar, Generic, TypeVar

import msgspec

from wolfbane.basis.toml_lines import Location
from wolfbane.kinds.suite import Suite
from wolfbane.model import TestFile

HOME = Path(__file__).parent
S = TypeVar("S", bound=Suite)


class WorkerCommand(msgspec.Struct, frozen=True):
    """The command that starts a worker: arguments, folder and options."""

    arguments: Sequence[str]
    folder: Path
    options: Mapping[str, Any] = msgspec.field(default_factory=dict)


OMIT_ALWAYS, OMIT_NEVER = "always", "never"


class MissingRuntime(Exception):
    """Something that a suite needs is not installed on this machine, so the suite is blocked.

    The text names the missing item.
    """


class NotStarted(Exception):
    """A program is in a workspace that is only looked at, so it did not start."""


class Kind(ABC, Generic[S]):
    """One kind of suite: how to find its tests by reading files, and how to start its worker.

    A kind defines a name, the model of its settings, and four methods. Everything else here has a
    default that suits most kinds; :mod:`wolfbane.kinds.protocols` has the abilities of some.
    """

    name: ClassVar[str]
    suite_type: type[S]

    scan_is_exact: ClassVar[bool] = False
    """The source alone shows every test, so workers are not needed to list them."""
    reads_values: ClassVar[bool] = False
    """Workers get every parameter, as ``values`` in their options."""
    keeps_limits: ClassVar[bool] = False
    """Workers end a test at its time limit themselves, and report their position."""
    parts_are: ClassVar[str] = "parts"
    """The name for the parts of a test in messages."""
    tool_folders: ClassVar[tuple[str, ...]] = ()
    """Names of folders that contain installed tools and packages, which are not under version
    control.
    """

    @abstractmethod
    def patterns(self, root: Path, suite: S) -> Sequence[str]:
        """Globs of file names that are searched in a folder of this suite."""

    @abstractmethod
    def scan(self, root: Path, suite: S, path: str, source: bytes) -> TestFile | None:
        """The tests that the source text shows. None if the file is not a test file.

        Runs none of the user's code.
        """

    @abstractmethod
    def worker(self, root: Path, suite: S) -> WorkerCommand:
        """The command that starts a worker.

        Raises MissingRuntime if the runtime is not installed.
        """

    @abstractmethod
    def runtime(self, root: Path, suite: S) -> str:
        """The runtime's name and version, for display. Raises MissingRuntime."""

    def inputs(self, root: Path, suite: S) -> Sequence[str]:
        """Folders and globs that all tests of the suite depend on, in addition to ``suite.inputs``.

        Defaults of the kind count as if the settings contained them.
        """
        return ()

    def wrong_settings(
        self, root: Path, suite: S, parameters: Collection[str]
    ) -> Iterator[tuple[Location, str]]:
        """The errors in the kind's own settings: a key below the suite, and a message.

        ``parameters`` are the names that the workspace declares. Raises InputError for problems
        in other files.
        """
        return iter(())


def own_process(module: str) -> list[str]:
    """The command that runs one of Wolfbane's modules as a worker, in Wolfbane's own interpreter.

    ``-P`` keeps the current folder, which is the suite's, out of the import path.
    """
    return [sys.executable, "-P", "-m", module]
