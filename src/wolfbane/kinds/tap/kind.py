"""Kind ``tap``: any program that prints TAP; a file is a test."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Self

from msgspec.structs import replace

from wolfbane.kinds.compiled.sources import whole_file
from wolfbane.kinds.contract import Kind, WorkerCommand, own_process
from wolfbane.kinds.executable.settings import ExecutableSuite
from wolfbane.kinds.executable.starting import sources_below, start_options
from wolfbane.kinds.imports import beside
from wolfbane.kinds.protocols import Detects, HasUntracedSources, Live, Relocatable, TakesOptions
from wolfbane.kinds.relocation import Relocation
from wolfbane.model import TestFile

_PROJECT_FILES = ("cpanfile", "cpanfile.snapshot", "Makefile.PL", "Build.PL")
AUTHOR_TESTS = "xt"
"""By convention of Perl's authors: tests that only a release needs."""


class TapSuite(ExecutableSuite, frozen=True):
    """A suite of programs that print TAP. ``import_path`` has folders for Perl's modules."""

    import_path: list[str] = []

    def relocated(self, to: Relocation) -> Self:
        """The suite with its paths relative to an outer workspace."""
        return replace(super().relocated(to), import_path=to.paths(self.import_path))


class TapKind(
    Kind[TapSuite],
    Detects[TapSuite],
    HasUntracedSources[TapSuite],
    Live,
    Relocatable[TapSuite],
    TakesOptions[TapSuite],
):
    """Programs in any language.

    By default, all ``*.t`` files; the suite's paths can name others.
    """

    name = "tap"
    suite_type = TapSuite
    scan_is_exact = True

    def patterns(self, root: Path, suite: TapSuite) -> Sequence[str]:
        """Files that end in ``.t``."""
        return ("*.t",)

    def scan(self, root: Path, suite: TapSuite, path: str, source: bytes) -> TestFile | None:
        """Every file is a test."""
        return whole_file(root, suite, path, source=source)

    def inputs(self, root: Path, suite: TapSuite) -> Sequence[str]:
        """The project's manifests."""
        return beside(suite, _PROJECT_FILES)

    def untraced(self, root: Path, suite: TapSuite) -> Sequence[str]:
        """The sources in the suite's folder, and in the folders of the import path."""
        return sources_below([suite.folder, *_library(suite)])

    def worker(self, root: Path, suite: TapSuite) -> WorkerCommand:
        """A process of Wolfbane's that starts one program after the other."""
        options = start_options(root, suite)
        options["perl_path"] = [str(root / path) for path in _perl_path(root, suite)]
        command = own_process("wolfbane.kinds.tap.runner")
        return WorkerCommand(command, root / suite.folder, options)

    def relocated(self, suite: TapSuite, to: Relocation) -> TapSuite:
        return suite.relocated(to)

    def owns_name(self, name: str) -> bool:
        return name.endswith(".t")

    def claims(self, root: Path, file: str) -> bool:
        """Files that end in ``.t``, except those for a library's author."""
        return file.endswith(".t") and AUTHOR_TESTS not in file.split("/")[:-1]

    def glob_for(self, name: str) -> str:
        return "*.t"

    def detected_settings(self, root: Path, folder: str) -> dict[str, Any]:
        start = ""
        if folder != ".":
            start = f"{folder}/"
        if (root / start / "lib").is_dir():
            return {"import_path": [f"{start}lib"]}
        return {}

    def settings_lines(self, root: Path, suite: TapSuite) -> Sequence[str]:
        if not suite.import_path:
            return []
        folders = json.dumps(suite.import_path, ensure_ascii=False)
        return [f"import_path = {folders}         # first on the import path"]

    def settings_hints(self, suite: TapSuite) -> Sequence[str]:
        return ['# interpreters = { ".t" = ["perl", "-w"] }']

    def with_options(self, root: Path, suite: TapSuite, options: Sequence[str]) -> TapSuite:
        """Arguments of each program."""
        return replace(suite, arguments=[*suite.arguments, *options])

    def runtime(self, root: Path, suite: TapSuite) -> str:
        """The first module folders for Perl."""
        paths = _perl_path(root, suite)
        if paths:
            return f"TAP programs (Perl's from {', '.join(paths)})"
        return "TAP programs"


def _perl_path(root: Path, suite: TapSuite) -> list[str]:
    """The first module folders for Perl: those of the suite, or the checkout's own.

    This is ``lib``, or ``blib``, which is built from it, if ``blib`` is not older.
    """
    start = ""
    if suite.folder != ".":
        start = f"{suite.folder}/"
    folders = []
    for path in _library(suite):
        built = f"{path.removesuffix('lib')}blib"
        if path == f"{start}lib" and _newest(root / built) >= _newest(root / path) > 0:
            folders += [f"{built}/lib", f"{built}/arch"]
        elif (root / path).is_dir():
            folders.append(path)
    return folders


def _library(suite: TapSuite) -> list[str]:
    start = ""
    if suite.folder != ".":
        start = f"{suite.folder}/"
    return suite.import_path or [f"{start}lib"]


def _newest(folder: Path) -> float:
    """The time of the last change of a file below a folder; 0 if there is none."""
    files = (path for path in folder.rglob("*") if path.is_file())
    return max((path.stat().st_mtime for path in files), default=0.0)


KIND = TapKind()
