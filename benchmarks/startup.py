"""Where the time of a tiny run goes: its phases, and what is imported for it.

    python benchmarks/startup.py

One test is run again and again, in turn with the runtime's own launcher; medians are printed.
"""

from __future__ import annotations

import json
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

ROUNDS = 15
MOST = 12
TEST = "import unittest\nclass Tide(unittest.TestCase):\n    def test_in(self):\n        pass\n"
SETTINGS = f'[[suite]]\nname = "t"\nkind = "python"\npaths = ["t"]\npython = "{sys.executable}"\n'
RUN = (str(Path(sys.executable).with_name("wolfbane")), "run")
COMMANDS: dict[str, Sequence[str]] = {
    "the interpreter": (sys.executable, "-c", "pass"),
    "import click": (sys.executable, "-c", "import click"),
    "import of the libraries": (
        sys.executable,
        "-c",
        "import click, asyncio, msgspec, tomllib, subprocess, tempfile, rich.console, rich.text",
    ),
    "wolfbane --version": (sys.executable, "-m", "wolfbane", "--version"),
    "unittest, one test": (sys.executable, "-m", "unittest", "t/test_tide.py"),
    "wolfbane run, one test": RUN,
}


def seconds(command: Sequence[str], folder: Path) -> float:
    """The wall time of one command."""
    began = time.perf_counter()
    subprocess.run(command, cwd=folder, capture_output=True, check=True)
    return time.perf_counter() - began


def phases(folder: Path) -> dict[str, float]:
    """The parts of one run in seconds, by the times in its journal."""
    took = seconds(RUN, folder)
    journal = sorted(folder.glob(".wolfbane/runs/*/journal.jsonl"))[-1]
    events = [json.loads(line) for line in journal.read_text().splitlines()]
    result = next(e["result"] for e in events if e["type"] == "test-finished")
    finished = events[-1]["seconds"]
    return {
        "imports, settings, the end": took - finished,
        "until the worker's first test": result["began"],
        "that test, until all is told": finished - result["began"],
    }


def imports(folder: Path) -> Counter[str]:
    """Milliseconds of imports by package, as the interpreter says, which makes them longer."""
    command = [sys.executable, "-X", "importtime", *RUN]
    told = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=True).stderr
    result: Counter[str] = Counter()
    for microseconds, name in re.findall(r"^import time:\s+(\d+) \|\s+\d+ \|\s*(\S+)", told, re.M):
        result[name.partition(".")[0]] += int(microseconds) / 1000
    return result


def main() -> None:
    """Print three tables."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder)
        (path / "t").mkdir()
        (path / "t" / "test_tide.py").write_text(TEST)
        (path / "wolfbane.toml").write_text(SETTINGS)
        seconds(RUN, path)
        times: dict[str, list[float]] = {name: [] for name in COMMANDS}
        parts: dict[str, list[float]] = {}
        for _ in range(ROUNDS):
            for name, command in COMMANDS.items():
                times[name].append(seconds(command, path))
            for name, value in phases(path).items():
                parts.setdefault(name, []).append(value)
        medians = {name: statistics.median(values) for name, values in times.items()}
        for name, value in medians.items():
            print(f"{name:<30} {value * 1000:6.0f} ms")
        ratio = medians["wolfbane run, one test"] / medians["unittest, one test"]
        print(f"{'a run, of the launcher':<30} {ratio:6.2f} times (at most 3.00)\n")
        for name, values in parts.items():
            print(f"{name:<30} {statistics.median(values) * 1000:6.0f} ms")
        print()
        for name, milliseconds in imports(path).most_common(MOST):
            print(f"import {name:<23} {milliseconds:6.1f} ms")


if __name__ == "__main__":
    main()
