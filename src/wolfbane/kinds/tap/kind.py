"""Kind ``tap``: any program that prints TAP; a file is a test."""

from __future__ import annotations

import json
import shutil
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from wolfbane.kinds.contract import Kind, Missing, WorkerCommand, own_process
from wolfbane.kinds.python.interpreters import default_interpreter
from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.tap.settings import TapSuite
from wolfbane.model import Test, TestFile

AUTHOR_TESTS = "xt"
"""By custom of Perl's authors: tests that only a release needs."""
_BY_SUFFIX = {".t": "perl", ".pl": "perl", ".sh": "sh", ".tcl": "tclsh"}


class TapKind(Kind[TapSuite]):
    """Programs in any language, found as ``*.t`` unless the suite's paths name others."""

    name = "tap"
    suite_type = TapSuite
    scan_is_exact = True

    def patterns(self, root: Path, suite: TapSuite) -> Sequence[str]:
        return ("*.t",)

    def scan(self, root: Path, suite: TapSuite, path: str, source: bytes) -> TestFile | None:
        lines = source.count(b"\n") + 1
        test = Test(suite.name, self.name, path, "", line=1, end=lines)
        return TestFile(path, suite.name, self.name, (test,), divisible=False)

    def inputs(self, root: Path, suite: TapSuite) -> Sequence[str]:
        return [f"{path}/**/{name}" for path in _library(suite) for name in ("*.pm", "*.pl")]

    def worker(self, root: Path, suite: TapSuite) -> WorkerCommand:
        interpreters: dict[str, list[str]] = {}
        for suffix, given in suite.interpreters.items():
            interpreters[suffix] = [given] if isinstance(given, str) else list(given)
            program = interpreters[suffix][0]
            if not shutil.which(program) and not (root / program).exists():
                raise Missing(f"there is no interpreter '{program}' for {suffix} files")
        command = own_process("wolfbane.kinds.tap.runner")
        told = {
            "interpreters": interpreters,
            "defaults": {**_BY_SUFFIX, ".py": default_interpreter(root, suite.folder)},
            "perl_path": [str(root / path) for path in _perl_path(root, suite)],
        }
        return WorkerCommand(command, root / suite.folder, told)

    def relocated(self, suite: TapSuite, to: Relocation) -> TapSuite:
        interpreters: dict[str, str | list[str]] = {}
        for suffix, given in suite.interpreters.items():
            program, *arguments = [given] if isinstance(given, str) else given
            interpreters[suffix] = [to.program(program), *arguments]
        return replace(suite, interpreters=interpreters, import_path=to.paths(suite.import_path))

    def owns_name(self, name: str) -> bool:
        return name.endswith(".t")

    def claims(self, root: Path, file: str) -> bool:
        return file.endswith(".t") and AUTHOR_TESTS not in file.split("/")[:-1]

    def glob_for(self, name: str) -> str:
        return "*.t"

    def detected_settings(self, root: Path, folder: str) -> dict[str, Any]:
        start = "" if folder == "." else f"{folder}/"
        return {"import_path": [f"{start}lib"]} if (root / start / "lib").is_dir() else {}

    def settings_lines(self, root: Path, suite: TapSuite) -> Sequence[str]:
        if not suite.import_path:
            return []
        folders = json.dumps(suite.import_path, ensure_ascii=False)
        return [f"import_path = {folders}         # put before everything else"]

    def settings_hints(self, suite: TapSuite) -> Sequence[str]:
        return ['# interpreters = { ".t" = ["perl", "-w"] }']

    def runtime(self, root: Path, suite: TapSuite) -> str:
        paths = _perl_path(root, suite)
        return f"TAP programs (Perl's from {', '.join(paths)})" if paths else "TAP programs"


def _perl_path(root: Path, suite: TapSuite) -> list[str]:
    """Where Perl looks for modules first: what the suite says, else the checkout's own.

    That is ``lib``, or ``blib``, into which it is built, where that is not older.
    """
    start = "" if suite.folder == "." else f"{suite.folder}/"
    found = []
    for path in _library(suite):
        built = f"{path.removesuffix('lib')}blib"
        if path == f"{start}lib" and _newest(root / built) >= _newest(root / path) > 0:
            found += [f"{built}/lib", f"{built}/arch"]
        elif (root / path).is_dir():
            found.append(path)
    return found


def _library(suite: TapSuite) -> list[str]:
    start = "" if suite.folder == "." else f"{suite.folder}/"
    return suite.import_path or [f"{start}lib"]


def _newest(folder: Path) -> float:
    """When a file below a folder was last changed; 0 where there is none."""
    files = (path for path in folder.rglob("*") if path.is_file())
    return max((path.stat().st_mtime for path in files), default=0.0)


KIND = TapKind()
