"""The abilities of some kinds. The rest of Wolfbane asks for them by type.

A kind lists the protocols that it offers as base classes, next to :class:`Kind`.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Generic, TypeVar

from wolfbane.basis.toml_lines import Location
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.kinds.suite import Suite

if TYPE_CHECKING:  # most commands read settings, and need none of it
    from wolfbane.kinds.documents import Fetched, Fetching
    from wolfbane.kinds.imports import ImportReader
    from wolfbane.kinds.relocation import Relocation
    from wolfbane.kinds.steps import StepLine

S = TypeVar("S", bound=Suite)
A = TypeVar("A")
SHARED = "shared"


class Detects(ABC, Generic[S]):
    """Finds suites in a folder without settings, and writes settings for them."""

    manifest: ClassVar[bool] = False
    """The files that ``claims`` accepts are manifests. The folder of a manifest is a suite."""

    @abstractmethod
    def claims(self, root: Path, file: str) -> bool:
        """Whether this file makes a suite of this kind."""

    def would_claim(self, root: Path, file: str) -> Mapping[str, Any]:
        """The settings with which this kind could run a file that it does not claim."""
        return {}

    def owns_name(self, name: str) -> bool:
        """Whether every file with this name is a test of this kind."""
        return False

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


class Relocatable(ABC, Generic[S]):
    """Has additional settings of suites that are paths."""

    @abstractmethod
    def relocated(self, suite: S, to: Relocation) -> S:
        """The suite with the kind's own paths relative to an outer workspace."""


class HasPathSettings(ABC, Generic[S]):
    """Has settings that name files or folders, or entries of ``paths`` with a special meaning."""

    def paths_in_settings(self, suite: S) -> Mapping[str, Sequence[str]]:
        """Paths and globs in the kind's own settings that must exist, by key."""
        return {}

    def path_on_disk(self, suite: S, path: str) -> str:
        """The file or folder that an entry of ``paths`` means."""
        return path


class FillsSettings(ABC, Generic[S]):
    """Has settings that may contain ``{parameter}``."""

    @abstractmethod
    def placeholders(self, suite: S) -> Mapping[str, object]:
        """The settings that may contain parameters, by key."""

    @abstractmethod
    def filled(self, suite: S, fill: Callable[[Any], Any]) -> S:
        """The suite with parameters filled in. ``fill`` takes and returns a setting."""

    @abstractmethod
    def wrong_when_filled(
        self, root: Path, suite: S, files: Sequence[str], filled: Sequence[S]
    ) -> Iterator[tuple[Location, str, str]]:
        """The errors in the settings before a run: a key, a message and a hint.

        ``files`` are the suite's test files. ``filled`` contains the suite for each environment.
        """


class FollowsImports(ABC, Generic[S]):
    """Reads which files a source imports, so that ``changed:`` can follow them."""

    @abstractmethod
    def import_reader(self) -> ImportReader:
        """The reader for sources in the kind's language."""

    def import_roots(self, root: Path, suite: S) -> tuple[str, ...]:
        """Folders in which imported modules are searched, in addition to the importer's own."""
        return usual_import_roots(suite)


class HasUntracedSources(ABC, Generic[S]):
    """Has tests that use sources although nothing in their text says so."""

    @abstractmethod
    def untraced(self, root: Path, suite: S) -> Sequence[str]:
        """Globs of such sources.

        A change of one affects all tests of the suite, unless it is itself a test file.
        """


class FetchesDocuments(ABC, Generic[S]):
    """Has suites and files that name documents by URL, such as descriptions of an API."""

    @abstractmethod
    def fetch(self, root: Path, suite: S, files: Sequence[str], how: Fetching) -> Fetched:
        """Download the documents that a suite and its files name."""

    @abstractmethod
    def operations(self, root: Path, suite: S, path: str) -> Mapping[str, Sequence[str]]:
        """The operations of each API description that a test file uses, for coverage."""


class HasSteps(ABC):
    """Has tests of steps with definitions, which workers can list."""

    @abstractmethod
    def steps(self, source: str, name: str) -> Sequence[StepLine]:
        """The steps of the test ``name``. Raises ValueError if the source cannot be read."""


class TakesOptions(ABC, Generic[S]):
    """Can pass options on to the runtime, program or launcher of a suite."""

    @abstractmethod
    def with_options(self, root: Path, suite: S, options: Sequence[str]) -> S:
        """The suite with additional options.

        Raises ValueError if the suite accepts none; the text gives the reason.
        """


class HasLauncher(ABC, Generic[S]):
    """Runs suites through their own launchers.

    Workers get the names of the selected tests and of all known tests with each request. A
    failure's trace is the launcher's own report, and is always shown.
    """

    settings_files: ClassVar[tuple[str, ...]] = ()
    """Keys of a suite that name a file with more settings."""

    @abstractmethod
    def commands_before(self, root: Path, suite: S) -> Sequence[str]:
        """Shell commands that prepare a run, once, after the suite was built."""

    @abstractmethod
    def result_path(self, suite: S) -> str:
        """The path for results that belong to no file of a request.

        A worker may also rerun tests that were not requested.
        """

    @abstractmethod
    def runs_whole_files(self, root: Path, suite: S) -> bool:
        """Whether a file can only run as a whole."""

    @abstractmethod
    def started_together(self, root: Path, suite: S) -> str:
        """``batch`` or ``suite`` if one start of the launcher runs several files."""

    @abstractmethod
    def omits_names(self, root: Path, suite: S) -> str:
        """When the launcher starts without names if all tests are selected: ``always``,
        ``after changes`` of the sources, or ``never``. Tests that were not found run then, too.
        Empty if the launcher takes no names.
        """

    @abstractmethod
    def unexpected_result(self, root: Path, suite: S) -> str:
        """A command that explains unplanned results. Empty if they are expected."""


class HasProcessScope(ABC, Generic[S]):
    """Decides which files share a process: each ``file`` has its own, files share it
    (``shared``), or the whole ``suite`` has one.
    """

    process: ClassVar[str] = SHARED
    """The usual scope. With ``file``, a file that is known exactly is not loaded twice."""

    def process_for(self, suite: S) -> str:
        """The scope for a suite."""
        return self.process


class CanFailToBuild(ABC, Generic[S]):
    """Knows reasons why a suite cannot be built without building it."""

    @abstractmethod
    def trouble(self, root: Path, suite: S) -> str:
        """The reason why the suite cannot be built; empty if none is known."""


class NestsTests:
    """A test may report nested tests while it runs. Their names are below its name."""


class HasClosingHooks:
    """Workers get a message when all tests are done, to run their own hooks."""


class Live:
    """Workers can leave the terminal to a test for input and output."""


class Loadable:
    """Workers can run the tests of a suite as a load test."""


def kinds_with(ability: type[A]) -> Iterator[tuple[str, A]]:
    """The kinds that offer a protocol, with their names."""
    for name in KINDS:
        kind = find_kind(name)
        if isinstance(kind, ability):
            yield name, kind


def process_scope(suite: Suite) -> str:
    """The scope of a process of a suite: a ``file``, the ``suite``, or ``shared`` by files."""
    kind = find_kind(suite.kind)
    if isinstance(kind, HasProcessScope):
        return kind.process_for(suite)
    return SHARED


def usual_process_scope(kind: str) -> str:
    """The scope of a process of a suite whose settings do not change it."""
    known = find_kind(kind)
    if isinstance(known, HasProcessScope):
        return known.process
    return SHARED


def in_one_process(suites: Iterable[Suite]) -> frozenset[str]:
    """The names of the suites whose files all run in one process, in the order of their names."""
    return frozenset(suite.name for suite in suites if process_scope(suite) == "suite")


def path_on_disk(suite: Suite, path: str) -> str:
    """The file or folder that an entry of a suite's ``paths`` means."""
    kind = find_kind(suite.kind)
    if isinstance(kind, HasPathSettings):
        return kind.path_on_disk(suite, path)
    return path


def relocated(suite: Suite, to: Relocation) -> Suite:
    """The suite with its kind's own paths relative to an outer workspace."""
    kind = find_kind(suite.kind)
    return kind.relocated(suite, to) if isinstance(kind, Relocatable) else suite


def filled(suite: Suite, fill: Callable[[Any], Any]) -> Suite:
    """The suite with parameters filled in. ``fill`` takes and returns a setting."""
    kind = find_kind(suite.kind)
    return kind.filled(suite, fill) if isinstance(kind, FillsSettings) else suite


def usual_import_roots(suite: Suite) -> tuple[str, ...]:
    """The folders in which most suites search imported modules."""
    return tuple(dict.fromkeys(["" if suite.folder == "." else suite.folder, "", "src"]))


def untraced_sources(root: Path, suite: Suite) -> Sequence[str]:
    """Globs of sources that tests of a suite may use although nothing in their text says so."""
    kind = find_kind(suite.kind)
    return kind.untraced(root, suite) if isinstance(kind, HasUntracedSources) else ()


def launcher_of(suite: Suite) -> HasLauncher[Any] | None:
    """The suite's kind, if its suites have launchers."""
    kind = find_kind(suite.kind)
    return kind if isinstance(kind, HasLauncher) else None
