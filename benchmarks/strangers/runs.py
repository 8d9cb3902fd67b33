"""The outcome of every test of a tree by Wolfbane, and what differs from the runtime's own."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from benchmarks.strangers.own import LIMIT, Outcomes, plain_name

_FAILED = ("errored", "crashed", "timed out")
"""Outcomes that other runtimes than Python's do not tell apart from a failed test."""


def our_outcomes(path: Path, kind: str, how: Sequence[str]) -> Outcomes:
    """The outcomes of Wolfbane, without any settings."""
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "ours.json"
        done = subprocess.run(
            [
                sys.executable,
                "-m",
                "wolfbane",
                "run",
                "--quiet",
                "--report",
                f"json={out}",
                *(["--kind", kind] if kind != "mixed" else []),
                *how,
            ],
            cwd=path,
            timeout=LIMIT,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            stdin=subprocess.DEVNULL,
            check=False,
            text=True,
            errors="replace",
        )
        if not out.exists():
            raise RuntimeError(f"wolfbane run: exit code {done.returncode}: {done.stdout[-2000:]}")
        results = json.loads(out.read_bytes())["results"]
    return Counter(map(_row, results))


def _row(result: dict[str, Any]) -> tuple[str, str, str]:
    kind = result["kind"]
    name, outcome = plain_name(result["name"]), result["outcome"]
    if kind == "tap":
        name = f"{len(result['parts'])} points"
    return result["path"], name, "failed" if kind != "python" and outcome in _FAILED else outcome


def differences(own: Outcomes, ours: Outcomes) -> list[str]:
    """Each test whose outcomes differ: ``FILE#NAME: failed, passed here``.

    A test that the runner cannot place in a file is found by its name alone.
    """
    theirs, mine = own - ours, ours - own
    _leave_out_what_never_ran(own, theirs, mine)
    by_name: dict[str, Outcomes] = {}
    for key, count in mine.items():
        by_name.setdefault(key[1], Counter())[key] = count
    for (file, name, end), count in list(theirs.items()):
        for key in [k for k in by_name.get(name, ()) if not file and k[2] == end]:
            matched = min(count, mine[key])
            mine[key] -= matched
            theirs[file, name, end] -= matched
    matches: dict[tuple[str, str], tuple[list[str], list[str]]] = {}
    for side, outcomes in enumerate((+theirs, +mine)):
        for (file, name, end), count in outcomes.items():
            matches.setdefault((file, name), ([], []))[side].extend([end] * count)
    return [
        f"{file}#{name}: {_counted(before) or 'no such test'}, {_counted(after) or 'none'} here"
        for (file, name), (before, after) in sorted(matches.items())
    ]


def _leave_out_what_never_ran(own: Outcomes, theirs: Outcomes, mine: Outcomes) -> None:
    """Remove tests that the runtime's own runner did not start, and errors of files that it told
    with their tests, or once for a whole package.
    """
    cancelled = {key[:2] for key in own if key[2] == "cancelled"}
    bad = {key for key in own if key[2] in (*_FAILED, "failed", "cancelled")}
    packages = {file.removesuffix("__init__.py") for file, name, _ in bad if not name}
    packages = {folder for folder in packages if folder.endswith("/")}
    for key in list(mine):
        file, name, _ = key
        told = not name and (
            any(file == other for other, _, _ in bad) or file.startswith(tuple(packages))
        )
        if told or (file, name) in cancelled:
            del mine[key]
    for key in [key for key in theirs if key[2] == "cancelled"]:
        del theirs[key]


def _counted(ends: Sequence[str]) -> str:
    counts = Counter(ends)
    return ", ".join(f"{n} {end}" if n > 1 else end for end, n in counts.items())
