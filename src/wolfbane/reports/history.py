"""The history, for people: a table of runs, or tests with their outcomes over time."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict

from rich.box import SIMPLE_HEAD
from rich.table import Table
from rich.text import Text

from wolfbane.model import Outcome
from wolfbane.reports.style import STYLES, counted
from wolfbane.reports.text import clock, ending, visible
from wolfbane.results.history import TestHistory
from wolfbane.results.store import RunEntry

MARKS = {
    Outcome.PASSED: ".",
    Outcome.FLAKY: "~",
    Outcome.FAILED: "F",
    Outcome.ERRORED: "E",
    Outcome.TIMED_OUT: "T",
    Outcome.CRASHED: "C",
    Outcome.BLOCKED: "B",
    Outcome.SKIPPED: "s",
    Outcome.TODO: "t",
}
ABSENT = " "
_COLUMNS = 38
"""What the columns of numbers take, with the room between."""


def run_table(entries: Sequence[RunEntry]) -> Table:
    """Runs, the newest first."""
    table = Table(box=SIMPLE_HEAD, padding=(0, 2, 0, 0), pad_edge=False)
    table.add_column("run", no_wrap=True)
    table.add_column("against")
    table.add_column("outcomes", overflow="fold")
    table.add_column("time", justify="right", no_wrap=True)
    table.add_column("exit", justify="right")
    for entry in entries:
        counts = Counter({Outcome(name): count for name, count in entry.counts.items()})
        exit_style = STYLES[Outcome.FAILED] if entry.exit_code == 1 else ""
        table.add_row(
            visible(entry.name), visible(entry.target) or "-", counted(counts),
            clock(entry.seconds), Text(str(entry.exit_code), style=exit_style),
        )  # fmt: skip
    return table


def test_table(histories: Sequence[TestHistory], width: int) -> Table:
    """Tests with a mark for each run, the newest at the right."""
    table = Table(box=SIMPLE_HEAD, padding=(0, 2, 0, 0), pad_edge=False)
    table.add_column("over time", no_wrap=True)
    table.add_column("passed", justify="right", no_wrap=True)
    table.add_column("flaky", justify="right", no_wrap=True)
    table.add_column("median", justify="right", no_wrap=True)
    most = max(width // 4, 10)
    marks = min(most, max((len(h.ended) for h in histories), default=0))
    room = max(width - max(marks, 9) - _COLUMNS, 20)
    table.add_column("test", no_wrap=True)
    for history in histories:
        ran = len(history.counted)
        flaky = f"{history.flake_rate:.0%}" if ran else "-"
        table.add_row(
            _marks(history, most), f"{history.passed} of {ran}" if ran else "-",
            flaky, clock(history.median) if ran else "-", ending(history.address, room),
        )  # fmt: skip
    return table


def _marks(history: TestHistory, most: int) -> Text:
    line = Text()
    for ended in history.ended[-most:]:
        outcome = Outcome(ended.outcome) if ended else None
        line.append(MARKS[outcome] if outcome else ABSENT, style=STYLES[outcome] if outcome else "")
    return line


def legend() -> Text:
    """What the marks mean."""
    line = Text("newest at the right:  ", style="dim")
    for outcome, mark in MARKS.items():
        line.append(mark, style=STYLES[outcome]).append(f" {outcome}  ", style="dim")
    line.rstrip()
    return line


def runs_as_json(entries: Sequence[RunEntry]) -> str:
    """An array of objects, one for each run."""
    return json.dumps([asdict(entry) for entry in entries], indent=1, ensure_ascii=False)


def tests_as_json(histories: Sequence[TestHistory], entries: Sequence[RunEntry]) -> str:
    """An array of objects, one for each test, with its outcome in each run that it was in."""
    names = [entry.name for entry in reversed(entries)]
    rows = [
        {
            "address": history.address,
            "runs": len(history.counted),
            "passed": history.passed,
            "flake_rate": round(history.flake_rate, 4),
            "median_seconds": round(history.median, 6),
            "stable": history.stable,
            "ended": [
                {"run": name, "outcome": e.outcome, "seconds": e.seconds, "attempts": e.attempts}
                for name, e in zip(names, history.ended, strict=True)
                if e
            ],
        }
        for history in histories
    ]
    return json.dumps(rows, indent=1, ensure_ascii=False)
