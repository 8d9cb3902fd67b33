"""How time and memory grow with the number of tests: a table, and the exponent of each command.

    python benchmarks/scale.py [COUNT...]

Workspaces of 2,000, 20,000 and 200,000 tests in files of 33 or 34 are listed, planned, run and
looked back on. An exponent of 1 means: as fast as the tests.
"""

from __future__ import annotations

import math
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

WOLFBANE = f"{Path(sys.executable).parent}/wolfbane"
COUNTS = (2_000, 20_000, 200_000)
EACH = 33
COMMANDS = {
    "list, never seen": ["list"],
    "list": ["list"],
    "run": ["run", "--quiet"],
    "run, a second time": ["run", "--quiet"],
    "run --dry-run": ["run", "--dry-run"],
    "list --tag": ["list", "--tag", "quay=3"],
    "run --share 1/4 --dry-run": ["run", "--share", "1/4", "--dry-run"],
    "show": ["show"],
    "report --as html": ["report", "--as", "html"],
    "report --as xunit": ["report", "--as", "xunit"],
    "history --suite": ["history", "--suite", "tides"],
    "compare": ["compare", "previous", "last"],
}


def workspace(path: Path, count: int) -> None:
    """A workspace with so many tests."""
    (path / "wolfbane.toml").write_text(
        '[[suite]]\nname = "tides"\nkind = "python"\npaths = ["t"]\n'
    )
    for number in range(count // EACH):
        folder = path / "t" / f"quay{number % 50}"
        folder.mkdir(parents=True, exist_ok=True)
        lines = [
            "import unittest",
            f"# tags: quay={number % 7}",
            f"class Berth{number}(unittest.TestCase):",
        ]
        for test in range(EACH):
            lines += [
                f"    def test_height_{test}(self):",
                f"        self.assertEqual({test}, {test})",
            ]
        (folder / f"test_berth_{number}.py").write_text("\n".join(lines) + "\n")


def measured(folder: Path, arguments: Sequence[str]) -> tuple[float, float]:
    """Seconds, and megabytes of the largest of its processes."""
    began = time.perf_counter()
    with Path(os.devnull).open("w") as nowhere:
        process = subprocess.Popen([WOLFBANE, *arguments], cwd=folder, stdout=nowhere)
    _, _, usage = os.wait4(process.pid, 0)
    return time.perf_counter() - began, usage.ru_maxrss / 1024


def exponent(counts: Sequence[int], values: Sequence[float]) -> float:
    """The slope of a line through the logarithms of the two largest."""
    return math.log(values[-1] / values[-2]) / math.log(counts[-1] / counts[-2])


def main() -> None:
    """Measure, and print a table in Markdown."""
    counts = [int(count) for count in sys.argv[1:]] or list(COUNTS)
    figures: dict[str, list[tuple[float, float]]] = {name: [] for name in COMMANDS}
    for count in counts:
        with tempfile.TemporaryDirectory() as folder:
            workspace(Path(folder), count)
            for name, arguments in COMMANDS.items():
                figures[name].append(measured(Path(folder), arguments))
                print(f"{count:,} {name}: {figures[name][-1]}", file=sys.stderr, flush=True)
    heads = [f"{count:,}" for count in counts]
    print(f"| | {' | '.join(heads)} | exponent | memory | exponent |")
    print(f"|---|{'---:|' * (len(counts) + 3)}")
    for name, values in figures.items():
        seconds, megabytes = [s for s, _ in values], [m for _, m in values]
        times = " | ".join(f"{s:.2f} s" for s in seconds)
        print(
            f"| `{name}` | {times} | {exponent(counts, seconds):.2f} "
            f"| {megabytes[-1]:.0f} MB | {exponent(counts, megabytes):.2f} |"
        )


if __name__ == "__main__":
    main()
