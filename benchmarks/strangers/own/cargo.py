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


def cargo_rows(tree: Tree, place: Path) -> Iterator[tuple[str, str, str]]:
    """The file, the name and the outcome of each test. Raises RuntimeError if nothing compiled."""
    done = subprocess.run(
        ["cargo", "test", "--offline", "--no-fail-fast", *tree.own], cwd=place, check=False,
        stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        errors="replace",
    )  # fmt: skip
    if "test result:" not in done.stdout:
        raise RuntimeError(f"cargo test: {done.stdout[-2000:]}")
    program = ""
    for line in done.stdout.splitlines():
        if found := _PROGRAM.match(line):
            program = found[1]
        elif found := _TEST.match(line):
            name, outcome = found[1], _ENDS[found[2]]
            if example := _EXAMPLE.match(name):
                yield example[1], f"doc / {example[2] or '(module)'}", outcome
            else:
                file, inside = _placed(place, program, name.split("::"))
                yield file, " / ".join(inside), outcome


def _placed(place: Path, program: str, parts: Sequence[str]) -> tuple[str, Sequence[str]]:
    """The file of the longest module path, and the rest of the name."""
    folder = Path(program).parent
    for count in range(len(parts) - 1, 0, -1):
        start = folder.joinpath(*parts[:count])
        for file in (start.with_suffix(".rs"), start / "mod.rs"):
            if (place / file).is_file():
                return file.as_posix(), parts[count:]
    return program, parts
