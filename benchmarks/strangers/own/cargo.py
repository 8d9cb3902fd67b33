"""The outcome of every test of a crate, as the toolchain prints it."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Iterator, Sequence
from pathlib import Path

from benchmarks.strangers.tables import Tree

_PROGRAM = re.compile(r"^\s*Running (?:unittests )?(\S+\.rs) \(")
_TEST = re.compile(r"^test (.+?)(?: - should panic)? \.\.\. (ok|FAILED|ignored)")
_EXAMPLE = re.compile(r"^(\S+\.rs) - (.*?) ?\(line \d+\)")
_ENDS = {"ok": "passed", "FAILED": "failed", "ignored": "skipped"}


def cargo_rows(tree: Tree, folder: Path) -> Iterator[tuple[str, str, str]]:
    """The file, the name and the outcome of each test. Raises RuntimeError if nothing compiled."""
    done = subprocess.run(
        ["cargo", "test", "--offline", "--no-fail-fast", *tree.own],
        cwd=folder,
        check=False,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        errors="replace",
    )
    if "test result:" not in done.stdout:
        raise RuntimeError(f"cargo test: {done.stdout[-2000:]}")
    program = ""
    for line in done.stdout.splitlines():
        if result := _PROGRAM.match(line):
            program = result[1]
        elif result := _TEST.match(line):
            name, outcome = result[1], _ENDS[result[2]]
            if example := _EXAMPLE.match(name):
                yield example[1], f"doc / {example[2] or '(module)'}", outcome
            else:
                file, inside = _placed(folder, program, name.split("::"))
                yield file, " / ".join(inside), outcome


def _placed(path: Path, program: str, parts: Sequence[str]) -> tuple[str, Sequence[str]]:
    """The file of the longest module path, and the rest of the name."""
    folder = Path(program).parent
    for count in range(len(parts) - 1, 0, -1):
        start = folder.joinpath(*parts[:count])
        for file in (start.with_suffix(".rs"), start / "mod.rs"):
            if (path / file).is_file():
                return file.as_posix(), parts[count:]
    return program, parts
