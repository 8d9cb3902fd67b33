"""A report of many results and a history of many runs: how long they take.

    python benchmarks/reports.py

A report of 50,000 results is to be written in at most 10 s, to open in headless Chromium within 2 s
and to filter within 0.1 s; questions to a history of 1,000,000 results are to take less than 1 s.
"""

from __future__ import annotations

import random
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec

from wolfbane.events.run_events import RunFinished, RunStarted, TestFinished
from wolfbane.model import Excerpt, Frame, Outcome, Result
from wolfbane.results.history.database import NAME
from wolfbane.results.history.entries import RunEntry, TestEnd
from wolfbane.results.history.store import Store

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from reader import Reader

WOLFBANE = f"{Path(sys.executable).parent}/wolfbane"
FILTERED = """
return new Promise((done) => {
  const began = performance.now();
  const end = () => done(performance.now() - began);
  const drawn = () => requestAnimationFrame(() => setTimeout(end));
  addEventListener("hashchange", drawn, {once: true});
  location.hash = arguments[0];
});
"""
"""Milliseconds until the page that was asked for by an address is drawn."""
TESTS, FILES = 50_000, 1_000
RUNS, IN_HISTORY = 200, 5_000
BEGAN = datetime(2026, 3, 1, 6, tzinfo=UTC)


def results() -> list[Result]:
    """Results of a large harbour: one in fifty fails, one in a hundred is flaky."""
    dice = random.Random(1)
    matches = []
    for number in range(TESTS):
        path = f"tests/quay{number % 40}/test_berths_{number % FILES}.py"
        outcome = dice.choices(
            [Outcome.PASSED, Outcome.FAILED, Outcome.FLAKY, Outcome.SKIPPED], [95, 2, 1, 2]
        )[0]
        name = f"BerthTest{number % 7} / test_berth_{number}_is_long_enough"
        tags = ("smoke" if number % 5 else "slow", f"owner=quay{number % 9}")
        bad = outcome is Outcome.FAILED
        matches.append(
            Result(
                f"{path}#{name}",
                f"quay{number % 40}",
                "python",
                path,
                name,
                outcome,
                seconds=dice.random() / 10,
                message=f"{number % 90} != {number % 91}" if bad else "",
                trace="Traceback\n" + "  a line of a stack\n" * 30 if bad else "",
                frames=(Frame(path, number % 300, name),) if bad else (),
                excerpt=Excerpt(path, 12, 10, ("a", "b", "c", "d", "e")) if bad else None,
                output=f"berth {number} looked at\n" * (number % 4),
                tags=tags,
                worker=number % 2 + 1,
                began=number / 40,
            )
        )
    return matches


def report(path: Path) -> None:
    """Write the report of a run with so many results, open it and look for something."""
    (path / "wolfbane.toml").write_text('[workspace]\nname = "Large harbour"\n')
    folder = path / ".wolfbane" / "runs" / "20260301-060000-0001"
    folder.mkdir(parents=True)
    made = results()
    started = RunStarted(
        folder.name,
        "Large harbour",
        BEGAN.isoformat(),
        "wolfbane run",
        "everything",
        "",
        {},
        TESTS,
        {},
        {},
        2,
        "longest file first",
        {},
    )
    events = [started, *map(TestFinished, made), RunFinished(1250.0, 1, {"failed": 1})]
    lines = msgspec.json.Encoder().encode_lines(events)
    (folder / "journal.jsonl").write_bytes(lines)
    page = path / "report.html"
    began = time.perf_counter()
    subprocess.run([WOLFBANE, "report", "--as", "html", "--to", str(page)], cwd=path, check=True)
    size = page.stat().st_size / 1e6
    print(f"written    {time.perf_counter() - began:6.2f} s  {TESTS:,} results, {size:.1f} MB")
    with Reader() as reader:
        began = time.perf_counter()
        reader.open(page)
        assert "50,000" in reader.text("#found")
        print(f"opened     {time.perf_counter() - began:6.2f} s")
        for message in ("#q=berth_4999", "#owner=quay3&outcome=failed", "#order=slow"):
            took = reader.js(FILTERED, message) / 1000
            verdict = "held" if took <= 0.1 else "OVER"
            result = reader.text("#found")
            print(f"filtered   {took:6.2f} s  (at most 0.1: {verdict})  {message}: {result}")


def history(folder: Path) -> None:
    """Ask a history of a million results."""
    store = Store(folder / ".wolfbane")
    began = time.perf_counter()
    for number in range(RUNS):
        hour = (BEGAN + timedelta(hours=number)).isoformat()
        entry = RunEntry(f"run-{number:04}", hour, 60.0, 1, {"passed": 1})
        store.add(
            entry,
            [
                TestEnd(
                    f"tests/test_{t % 200}.py#test_{t}",
                    "quay",
                    "failed" if (t + number) % 50 == 0 else "passed",
                    0.02 * (t % 7),
                )
                for t in range(IN_HISTORY)
            ],
        )
    size = (folder / ".wolfbane" / NAME).stat().st_size / 1e6
    print(f"taken in   {time.perf_counter() - began:6.2f} s  {RUNS * IN_HISTORY:,}, {size:.0f} MB")
    (folder / "tests").mkdir()
    for number in range(200):
        body = "".join(f"def test_{t}(): pass\n" for t in range(number, IN_HISTORY, 200))
        (folder / "tests" / f"test_{number}.py").write_text(body)
    subprocess.run([WOLFBANE, "list", "--as", "json"], cwd=folder, check=True, capture_output=True)
    for message in (
        ["history"],
        ["history", "tests/test_7.py"],
        ["history", "--name", "test_77"],
        ["compare", "previous", "last"],
    ):
        began = time.perf_counter()
        done = subprocess.run([WOLFBANE, *message], cwd=folder, capture_output=True, check=False)
        seconds = time.perf_counter() - began
        print(
            f"asked      {seconds:6.2f} s  wolfbane {' '.join(message)}  (exit {done.returncode})"
        )


def main() -> None:
    """Both, in folders of their own."""
    for part in (report, history):
        with tempfile.TemporaryDirectory() as folder:
            part(Path(folder))


if __name__ == "__main__":
    main()
