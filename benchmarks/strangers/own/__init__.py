"""The outcome of every test of a tree by the runtime's own runner."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

from benchmarks.strangers.own.cargo import cargo_rows
from benchmarks.strangers.tables import Tree, parts_of

Outcomes = Counter[tuple[str, str, str]]
"""How often each file, name and outcome occurred."""
LIMIT = 1800.0
_NUMBER = re.compile(r" \(\d+\)$")
_TCL_LINE = re.compile(r"^(?:\+\+\+\+|====) (\S+) (?:.* )?(PASSED|SKIPPED|FAILED)(?:$|:)", re.M)
_HERE = Path(__file__).parent


def own_outcomes(kind: str, tree: Tree, folder: Path) -> Outcomes:
    """The outcomes of the runtime's own runner. Raises RuntimeError if it does not end normally."""
    runners = {
        "python": _python,
        "node": _node,
        "tap": _perl,
        "cargo": cargo_rows,
        "bridge": _tcl,
        "mixed": _mixed,
    }
    rows = runners[kind](tree, folder)
    return Counter((file, plain_name(name), outcome) for file, name, outcome in rows)


def plain_name(name: str) -> str:
    """A name without a number at its end: Wolfbane numbers tests of one name, ``test_high (2)``."""
    return _NUMBER.sub("", name)


def _python(tree: Tree, path: Path) -> Iterator[tuple[str, str, str]]:
    python = path / ".venv/bin/python"
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "own.json"
        program = str(python if python.exists() else sys.executable)
        command = [program, str(_HERE / "python.py"), str(out), *tree.own]
        # The sources of the tree, and not an installed copy of them.
        said = _output(command, path / tree.folder, PYTHONPATH=str(path / "src"))
        if not out.exists():
            raise RuntimeError(f"the runtime's own runner: {said[-2000:]}")
        rows = json.loads(out.read_bytes())
    start = "" if tree.folder == "." else f"{tree.folder}/"
    yield from ((f"{start}{file}" if file else "", name, end) for file, name, end in rows)


def _node(tree: Tree, target: Path) -> Iterator[tuple[str, str, str]]:
    files = _files(tree, target)
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "own.jsonl"
        reporter = [f"--test-reporter={_HERE / 'node.mjs'}", f"--test-reporter-destination={out}"]
        _output(["node", "--test", *reporter, *files], target)
        lines = out.read_bytes().splitlines()  # a name may contain other ends of lines
    for file, name, outcome in map(json.loads, lines):
        path = os.path.relpath(file, target) if file else ""
        # The runtime counts a file that has no tests, or that cannot be loaded, as a test.
        if target / name != Path(file or "."):
            yield path, name, outcome
        elif outcome == "failed":
            yield path, "", outcome


def _perl(tree: Tree, folder: Path) -> Iterator[tuple[str, str, str]]:
    """A file is a test; its name is the number of its points."""
    said = _output(["perl", "-Ilib", str(_HERE / "perl.pl"), *_files(tree, folder)], folder)
    for line in said.splitlines():
        if line.startswith("["):
            file, points, outcome = json.loads(line)
            yield file, f"{points} points", outcome


def _tcl(tree: Tree, folder: Path) -> Iterator[tuple[str, str, str]]:
    """The lines of Tcl's test package for each test."""
    for file in _files(tree, folder):
        said = _output(["tclsh", file, "-verbose", "body error pass skip"], folder)
        for name, outcome in _TCL_LINE.findall(said):
            yield file, name, {"PASSED": "passed", "SKIPPED": "skipped"}.get(outcome, "failed")


def _mixed(tree: Tree, folder: Path) -> Iterator[tuple[str, str, str]]:
    """The rows of each part, in its own folder."""
    for title, (kind, part) in parts_of(tree).items():
        for file, name, outcome in own_outcomes(kind, part, folder / title).elements():
            yield f"{title}/{file}" if file else "", name, outcome


def _files(tree: Tree, folder: Path) -> list[str]:
    result = (file for pattern in tree.own for file in folder.glob(pattern))
    return sorted(file.relative_to(folder).as_posix() for file in result)


def _output(command: list[str], folder: Path, **variables: str) -> str:
    return subprocess.run(
        command,
        cwd=folder,
        env={**os.environ, **variables},
        timeout=LIMIT,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        stdin=subprocess.DEVNULL,
        check=False,
        text=True,
        errors="replace",
    ).stdout
