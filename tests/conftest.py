"""A workspace in a temporary folder, and the built program run on it."""

from __future__ import annotations

import atexit
import gc
import inspect
import json
import os
import shutil
import signal
import subprocess
import sys
import textwrap
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from quick import Quick

settings.register_profile("steady", deadline=None)  # a busy machine is no failure
settings.load_profile("steady")
os.environ["GIT_CONFIG_GLOBAL"] = os.devnull  # filters and hooks of this machine's user
# In the background of a script SIGINT is ignored, and children inherit that. A handler is not
# inherited: with one, the programs that tests start have the default.
signal.signal(signal.SIGINT, signal.default_int_handler)

LONG = [
    "test_examples",
    "test_browsers",
    "test_program",
    "test_bridge_learn",
    "test_load",
    "test_node",
    "test_cluster",
    "test_history",
    "test_bridge_examples",
    "test_browser_endpoints",
    "test_python_kind",
    "test_separate_hosts",
    "test_faults",
    "test_differential",
    "test_html_report",
]
"""Files with tests that take long, the longest first."""
_INTERPRETERS = sorted(Path.home().glob(".pyenv/versions/3.*/bin/python"))
SUPPORTED = [
    str(path) for path in _INTERPRETERS if int(path.parts[-3].split(".")[1]) in range(8, 14)
] or [sys.executable]
"""Interpreters of Python 3.8 to 3.13 that are here, else our own."""


def present(program: str) -> bool:
    """Whether a runtime is here, and new enough."""
    if program == "node" and shutil.which("node"):
        said = subprocess.run(["node", "--version"], capture_output=True, text=True, check=True)
        return int(said.stdout.lstrip("v").partition(".")[0]) >= 20
    return shutil.which(program) is not None


def schema_facts(schema: dict[str, Any]) -> dict[str, Any]:
    """The facts that types decide in a JSON Schema: names, required keys, defaults, descriptions.

    How a type is written is the choice of the library's version.
    """
    return {
        name: (
            inspect.cleandoc(definition.get("description", "")),
            sorted(definition.get("required", [])),
            {key: value.get("default") for key, value in definition.get("properties", {}).items()},
            sorted(map(str, definition.get("enum", []))),
        )
        for name, definition in json.loads(json.dumps(schema))["$defs"].items()
    }


@cache
def _search_path() -> str:
    """PATH, with the interpreter of these tests first.

    ``python3`` of a machine may be a version manager's script, or load what its site wishes: either
    takes longer than most tests take to run.
    """
    return os.pathsep.join([str(Path(sys.prefix, "bin")), os.environ.get("PATH", os.defpath)])


@cache
def _quick() -> Quick:
    """The process that this worker's calls are forked from."""
    quick = Quick()
    atexit.register(quick.close)
    return quick


def _toml(value: Any) -> str:
    if isinstance(value, dict):
        pairs = (f"{json.dumps(key)} = {_toml(each)}" for key, each in value.items())
        return f"{{ {', '.join(pairs)} }}"
    return json.dumps(value, ensure_ascii=False)  # but for tables, as TOML has it


def suite(name: str, kind: str, *paths: str, **keys: Any) -> str:
    """The settings of a suite."""
    every = {"name": name, "kind": kind, "paths": paths, **keys}
    return "".join(["[[suite]]\n", *(f"{key} = {_toml(each)}\n" for key, each in every.items())])


GUARD = 300
"""Seconds after which a call hangs. On a busy machine, the demo takes more than two minutes."""


@dataclass
class Run:
    """What a run of the program left: exit code, both outputs, and results by address."""

    code: int
    out: str
    err: str
    results: dict[str, dict[str, Any]]

    @property
    def text(self) -> str:
        """What was printed, in one line: prose is broken at the width of the terminal."""
        return " ".join(self.out.split())

    @property
    def outcomes(self) -> dict[str, str]:
        return {address: result["outcome"] for address, result in self.results.items()}


class Folder:
    """A workspace to write files into and to run the program in."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._calls = 0

    def write(self, **files: str) -> None:
        """Write files; ``__`` in a name is a slash, its last ``_`` the dot of the ending."""
        for name, text in files.items():
            stem, _, ending = name.replace("__", "/").rpartition("_")
            self.file(f"{stem}.{ending}", text)

    def file(self, name: str, text: str, mode: int = 0o644) -> Path:
        path = self.path / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(textwrap.dedent(text).lstrip("\n"), encoding="utf-8")
        path.chmod(mode)
        return path

    def command(self, *arguments: str) -> list[str]:
        return [sys.executable, "-m", "wolfbane", *arguments]

    def environment(self) -> dict[str, str]:
        inherited = {key: value for key, value in os.environ.items() if key != "VIRTUAL_ENV"}
        return {**inherited, "NO_COLOR": "1", "COLUMNS": "80", "PATH": _search_path()}

    def call(self, *arguments: str, answers: Sequence[str] = (), **environment: str) -> Run:
        """Run any command of the program; ``answers`` are typed, a line each."""
        typed = "".join(f"{answer}\n" for answer in answers)
        if not self._is_fresh(environment):
            told = _quick().run(
                arguments, self.path, {**self.environment(), **environment}, typed, GUARD
            )
            return Run(*told, {})
        program, *rest = self.command(*arguments)
        done = subprocess.run(
            [program, "-P", *rest],  # as installed: no module of the folder is imported
            cwd=self.path,
            env={**self.environment(), **environment},
            input=typed,
            capture_output=True,
            text=True,
            timeout=GUARD,
            check=False,
        )
        return Run(done.returncode, done.stdout, done.stderr, {})

    def _is_fresh(self, environment: Mapping[str, str]) -> bool:
        """Whether a call gets a new interpreter: where it has to, and a tenth of the others.

        The process that forks has imported everything, so it would hide an import that is missing.
        """
        self._calls += 1
        drawn = zlib.crc32(f"{self.path.name} {self._calls}".encode()) % 10 == 0
        return drawn or any(name.startswith("PYTHON") for name in environment)

    def run(self, *arguments: str, **environment: str) -> Run:
        """``wolfbane run`` with a JSON report, whose results are read back."""
        report = self.path / "report.json"
        report.unlink(missing_ok=True)
        run = self.call("run", "--report", f"json={report}", *arguments, **environment)
        if report.exists():
            read = json.loads(report.read_text(encoding="utf-8"))["results"]
            run.results = {result["address"]: result for result in read}
            assert len(run.results) == len(read), "an address came twice"
        return run

    def git(self, *arguments: str, **environment: str) -> str:
        """What git prints, in this folder."""
        who = ("-c", "user.name=quay", "-c", "user.email=quay@harbour.example")
        # To wait for the disk after each commit takes longer than most tests.
        quick = ("-c", "core.fsync=none", "-c", "init.defaultBranch=main")
        command = ["git", *who, *quick, *arguments]
        return subprocess.run(
            command,
            cwd=self.path,
            check=True,
            capture_output=True,
            text=True,
            env={**os.environ, **environment},
        ).stdout

    def processes(self) -> list[str]:
        """Command lines of live processes that were started for this folder's runs."""
        import psutil

        matches = []
        for process in psutil.process_iter():
            try:
                mine = str(self.path) in (process.environ().get("WOLFBANE_TEST_MARK") or "")
                if mine and process.status() != psutil.STATUS_ZOMBIE:
                    matches.append(" ".join(process.cmdline()))
            except psutil.Error:
                continue
        return matches


@pytest.fixture
def folder(tmp_path: Path) -> Folder:
    return Folder(tmp_path)


@pytest.fixture
def ledger(folder: Folder) -> Folder:
    """A workspace with a suite behind a bridge."""
    from bridged import write_ledger

    write_ledger(folder)
    return folder


def pytest_collection_finish() -> None:
    """Look no more at what was imported and collected when objects are cleaned up."""
    gc.collect()
    gc.freeze()


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Start the long files first: at the end all others would wait for them."""
    items.sort(key=lambda item: LONG.index(item.path.stem) if item.path.stem in LONG else len(LONG))
