"""Runs over the machines of a cluster engine: two against one, and what travelling costs.

    python benchmarks/machines.py

The scheduler and its workers run on this machine. Each figure is a ratio, or a difference, of
commands in one run. Nothing here is a test.
"""

from __future__ import annotations

import json
import os
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

BIN = Path(sys.executable).parent
ROUNDS = 3


class Cluster:
    """A scheduler, and workers of one slot each."""

    def __init__(self, folder: Path) -> None:
        with socket.create_server(("127.0.0.1", 0)) as listening:
            self.port = listening.getsockname()[1]
        self.address = f"tcp://127.0.0.1:{self.port}"
        self.folder = folder
        self.processes = [self._start("scheduler", "scheduler", "--port", str(self.port))]

    def join(self, name: str) -> None:
        """Start a worker, and wait until it is there."""
        arguments = (self.address, "--nthreads", "1", "--name", name, "--no-nanny")
        self.processes.append(self._start(name, "worker", *arguments))
        log = self.folder / name / "log"
        while "Starting established connection" not in log.read_text():
            time.sleep(0.05)

    def _start(self, name: str, what: str, *arguments: str) -> subprocess.Popen[bytes]:
        folder = self.folder / name
        folder.mkdir()
        environment = {**os.environ, "XDG_CACHE_HOME": str(folder / "cache")}
        command = [str(BIN / "dask"), what, "--host", "127.0.0.1", "--no-dashboard", *arguments]
        with (folder / "log").open("w") as log:
            return subprocess.Popen(
                command, cwd=folder, env=environment, stdout=subprocess.DEVNULL, stderr=log
            )

    def close(self) -> None:
        """End all of it."""
        for process in self.processes:
            process.kill()
            process.wait()


@contextmanager
def cluster(*names: str) -> Iterator[Cluster]:
    """A cluster with these workers, for as long as the context lasts."""
    with tempfile.TemporaryDirectory() as folder:
        result = Cluster(Path(folder))
        try:
            for name in names:
                result.join(name)
            yield result
        finally:
            result.close()


def run(folder: Path, *arguments: str) -> tuple[float, float]:
    """Seconds of the whole command, and of the run as its record has them."""
    report = folder.parent / "report.json"
    began = time.perf_counter()
    command = [str(BIN / "wolfbane"), "run", "-q", *arguments, "--report", f"json={report}"]
    subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=False)
    whole = time.perf_counter() - began
    return whole, json.loads(report.read_text())["finished"]["seconds"]


def medians(folder: Path, *commands: Sequence[str]) -> list[float]:
    """The median seconds of each command; they are run in turn."""
    result = [[run(folder, *command)[0] for command in commands] for _ in range(ROUNDS)]
    return [statistics.median(column) for column in zip(*result, strict=True)]


def write_tests(folder: Path, files: int, tests: int, body: str) -> None:
    """Test files in a folder of their own."""
    shutil.rmtree(folder, ignore_errors=True)
    for number in range(files):
        path = folder / "tests" / f"test_{number}.py"
        path.parent.mkdir(parents=True, exist_ok=True)
        functions = "".join(f"    def test_{n}(self): {body}\n" for n in range(tests))
        path.write_text(f"import time, unittest\nclass T(unittest.TestCase):\n{functions}")


def verdict(title: str, value: float, most: float, unit: str = "") -> None:
    """A line for a figure."""
    word = "held" if value <= most else "OVER"
    print(f"{title:<56} {value:8.2f}{unit}  (at most {most:g}{unit}: {word})", flush=True)


def two_against_one(folder: Path) -> None:
    """200 tests of 50 ms on two machines of a slot, and on one."""
    write_tests(folder, 20, 10, "time.sleep(0.05)")
    with cluster("quay-1") as one, cluster("quay-1", "quay-2") as two:
        for each in (one, two):
            run(folder, "--on", each.address)  # the workspace is there now
        single, both = medians(folder, ("--on", one.address), ("--on", two.address))
    verdict("200 tests of 50 ms: two machines against one", both / single, 0.6)


def small_run(folder: Path) -> None:
    """What ``--on`` costs a run of one small test."""
    write_tests(folder, 1, 1, "pass")
    with cluster("quay-1") as one:
        run(folder, "--on", one.address)
        local, there = medians(folder, (), ("--on", one.address))
    verdict("one small test: --on costs more than here", there - local, 3.0, " s")


def travel(folder: Path) -> None:
    """100 MB of workspace, sent once, and nothing the second time."""
    write_tests(folder, 1, 1, "pass")
    for number in range(100):
        (folder / f"chart-{number}.bin").write_bytes(os.urandom(1 << 20))
    with cluster("quay-1") as one:
        first, _ = run(folder, "--on", one.address)
        kept = one.folder / "quay-1" / "cache" / "wolfbane" / "machine" / "contents"
        before = {path.name: path.stat().st_mtime_ns for path in kept.iterdir()}
        second, _ = run(folder, "--on", one.address)
        sent = sum(
            path.stat().st_size
            for path in kept.iterdir()
            if path.stat().st_mtime_ns != before.get(path.name)
        )
    print(f"100 MB of workspace: first run {first:.2f} s, second {second:.2f} s")
    verdict("100 MB of workspace: sent the second time", sent / 1e6, 0.0, " MB")


def streaming(folder: Path) -> None:
    """20,000 results from one machine of a slot, and from one job here."""
    write_tests(folder, 200, 100, "pass")
    with cluster("quay-1") as one:
        run(folder, "--on", one.address)
        pairs = [
            (run(folder, "--jobs", "1")[1], run(folder, "--on", one.address)[1])
            for _ in range(ROUNDS)
        ]
    local, there = (statistics.median(column) for column in zip(*pairs, strict=True))
    verdict("20,000 results: time of one machine against one job", there / local, 2.0)


def main() -> None:
    """Print every figure."""
    with tempfile.TemporaryDirectory() as path:
        folder = Path(path) / "quay"
        for figure in (two_against_one, small_run, travel, streaming):
            figure(folder)


if __name__ == "__main__":
    main()
