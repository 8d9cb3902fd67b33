"""The interface of a kind: everything that Wolfbane needs to know about its suites."""

from __future__ import annotations

import sys
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, ClassVar, Generic, TypeVar

import msgspec

from wolfbane.basis.toml_lines import Location
from wolfbane.kinds.documents import Fetched, Fetching
from wolfbane.kinds.imports import ImportReader
from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.steps import StepLine
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

    A kind defines a name, the model of its settings, and four methods. Everything else has a
    default that suits most kinds.
    """

    name: ClassVar[str]
    suite_type: type[S]

    scan_is_exact: ClassVar[bool] = False
    """The source alone shows every test, so workers are not needed to list them."""
    process: ClassVar[str] = "shared"
    """The scope of a process: each ``file`` has its own, or files share it (``shared``). With one
    for each, a file that is known exactly is not loaded twice.
    """
    tests_hold_tests: ClassVar[bool] = False
    """A test may report nested tests while it runs. Their names are below its name."""
    has_closing_hooks: ClassVar[bool] = False
    """Workers get a message when all tests are done, to run their own hooks."""
    reads_values: ClassVar[bool] = False
    """Workers get every parameter, as ``values`` in their options."""
    keeps_limits: ClassVar[bool] = False
    """Workers end a test at its time limit themselves, and report their position."""
    needs_names: ClassVar[bool] = False
    """Workers get the names of the selected tests and of all known tests with each request."""
    parts_are: ClassVar[str] = "parts"
    """The name for the parts of a test in messages."""
    shows_trace: ClassVar[bool] = False
    """A failure's trace is the suite's own report, and is always shown."""
    can_be_live: ClassVar[bool] = False
    """Workers can leave the terminal to a test for input and output."""
    can_be_loaded: ClassVar[bool] = False
    """Workers can run the tests of a suite as a load test."""
    has_steps: ClassVar[bool] = False
    """Workers can list the step definitions of a suite."""
    names_documents: ClassVar[bool] = False
    """Suites and their files may name documents by URL, which :meth:`fetch` downloads."""
    tool_folders: ClassVar[tuple[str, ...]] = ()
    """Names of folders that contain installed tools and packages, which are not under version
    control.
    """
    settings_files: ClassVar[tuple[str, ...]] = ()
    """Keys of a suite that name a file with more settings."""

    # --- Settings

    def wrong_settings(
        self, root: Path, suite: S, parameters: Collection[str]
    ) -> Iterator[tuple[Location, str]]:
        """The errors in the kind's own settings: a key below the suite, and a message.

        ``parameters`` are the names that the workspace declares. Raises InputError for problems
        in other files.
        """
        return iter(())

    def paths_in_settings(self, suite: S) -> Mapping[str, Sequence[str]]:
        """Paths and globs in the kind's own settings that must exist, by key."""
        return {}

    def path_on_disk(self, suite: S, path: str) -> str:
        """The file or folder that an entry of ``paths`` means."""
        return path

    def placeholders(self, suite: S) -> Mapping[str, object]:
        """The kind's own settings that may contain ``{parameter}``, by key."""
        return {}

    def filled(self, suite: S, fill: Callable[[Any], Any]) -> S:
        """The suite with parameters filled in. ``fill`` takes and returns a setting."""
        return suite

    def wrong_when_filled(
        self, root: Path, suite: S, files: Sequence[str], filled: Sequence[S]
    ) -> Iterator[tuple[Location, str, str]]:
        """The errors in the settings before a run: a key, a message and a hint.

        ``files`` are the suite's test files. ``filled`` contains the suite for each environment.
        """
        return iter(())

    def relocated(self, suite: S, to: Relocation) -> S:
        """The suite with the kind's own paths relative to an outer workspace."""
        return suite

    # --- Detection, for a folder without settings

    def claims(self, root: Path, file: str) -> bool:
        """Whether this file makes a suite of this kind."""
        return False

    def would_claim(self, root: Path, file: str) -> Mapping[str, Any]:
        """The settings with which this kind could run a file that it does not claim."""
        return {}

    def owns_name(self, name: str) -> bool:
        """Whether every file with this name is a test of this kind."""
        return False

    manifest: ClassVar[bool] = False
    """The files that ``claims`` accepts are manifests. The folder of a manifest is a suite."""

    def glob_for(self, name: str) -> str:
        """The glob for test files next to ``name`` in a project's own folder."""
        return name

    def detected_settings(self, root: Path, folder: str) -> dict[str, Any]:
        """The kind's own settings for a detected project in ``folder`` ("." is the root)."""
        return {}

    def settings_lines(self, root: Path, suite: S) -> Sequence[str]:
        """Lines of a new settings file, with the behaviour of a run without them."""
        return ()

    def settings_hints(self, suite: S) -> Sequence[str]:
        """Commented lines of a new settings file for common settings."""
        return ()

    # --- Finding tests

    @abstractmethod
    def patterns(self, root: Path, suite: S) -> Sequence[str]:
        """Globs of file names that are searched in a folder of this suite."""

    @abstractmethod
    def scan(self, root: Path, suite: S, path: str, source: bytes) -> TestFile | None:
        """The tests that the source text shows. None if the file is not a test file.

        Runs none of the user's code.
        """

    def inputs(self, root: Path, suite: S) -> Sequence[str]:
        """Folders and globs that all tests of the suite depend on, in addition to ``suite.inputs``.

        Defaults of the kind count as if the settings contained them.
        """
        return ()

    def untraced(self, root: Path, suite: S) -> Sequence[str]:
        """Globs of sources that a test may use although nothing in its text says so.

        A change of one affects all tests of the suite, unless it is itself a test file.
        """
        return ()

    def import_reader(self) -> ImportReader | None:
        """Reads which files a source imports, so that ``changed:`` can follow them."""
        return None

    def import_roots(self, root: Path, suite: S) -> tuple[str, ...]:
        """Folders in which imported modules are searched, in addition to the importer's own."""
        return tuple(dict.fromkeys(["" if suite.folder == "." else suite.folder, "", "src"]))

    def fetch(self, root: Path, suite: S, files: Sequence[str], how: Fetching) -> Fetched:
        """Download the documents that a suite and its files name by URL."""
        return Fetched()

    def operations(self, root: Path, suite: S, path: str) -> Mapping[str, Sequence[str]]:
        """The operations of each API description that a test file uses, for coverage."""
        return {}

    def steps(self, source: str, name: str) -> Sequence[StepLine]:
        """The steps of the test ``name``. Raises ValueError if the source cannot be read."""
        return ()

    # --- Running tests

    def with_options(self, root: Path, suite: S, options: Sequence[str]) -> S:
        """The suite with additional options for its runtime, program or launcher.

        Raises ValueError if the suite accepts no options; the text gives the reason.
        """
        raise ValueError(f"suites of kind {self.name} do not accept options")

    def commands_before(self, root: Path, suite: S) -> Sequence[str]:
        """Shell commands that prepare a run, once, after the suite was built."""
        return ()

    @abstractmethod
    def worker(self, root: Path, suite: S) -> WorkerCommand:
        """The command that starts a worker.

        Raises MissingRuntime if the runtime is not installed.
        """

    @abstractmethod
    def runtime(self, root: Path, suite: S) -> str:
        """The runtime's name and version, for display. Raises MissingRuntime."""

    def trouble(self, root: Path, suite: S) -> str:
        """The reason why the suite cannot be built, as far as that is known without a build."""
        return ""

    def result_path(self, suite: S) -> str:
        """The path for results that belong to no file of a request. Empty if there are none.

        If there are some, a worker may also rerun tests that were not requested.
        """
        return ""

    def runs_whole_files(self, root: Path, suite: S) -> bool:
        """Whether a file can only run as a whole."""
        return False

    def started_together(self, root: Path, suite: S) -> str:
        """``batch`` or ``suite`` if one start of the launcher runs several files."""
        return ""

    def omits_names(self, root: Path, suite: S) -> str:
        """When the launcher starts without names if all tests are selected: ``always``,
        ``after changes`` of the sources, or ``never``. Tests that were not found run then, too.
        Empty if the suite has no launcher, or if it takes no names.
        """
        return ""

    def process_for(self, suite: S) -> str:
        """The scope of a process of a suite: as :attr:`process`, or the whole ``suite``."""
        return self.process

    def unexpected_result(self, root: Path, suite: S) -> str:
        """A command that explains unplanned results. Empty if they are expected."""
        return ""


def own_process(module: str) -> list[str]:
    """The command that runs one of Wolfbane's modules as a worker, in Wolfbane's own interpreter.

    ``-P`` keeps the current folder, which is the suite's, out of the import path.
    """
    return [sys.executable, "-P", "-m", module]
