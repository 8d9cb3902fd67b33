"""Prints the history: a table of runs, or tests with their outcomes over time."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence
from functools import lru_cache

from msgspec import to_builtins
from rich.text import Text

from wolfbane.model import Outcome
from wolfbane.reports.console.layout import Column
from wolfbane.reports.console.style import STYLES, counted
from wolfbane.reports.text import clock, visible
from wolfbane.results.history.entries import QUARANTINED, RunEntry
from wolfbane.results.history.queries import TestHistory
from wolfbane.workspace.git import SHORT

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


def run_table(entries: Sequence[RunEntry]) -> list[Column]:
    """Runs, the newest first."""
    outcomes = [_outcomes(entry) for entry in entries]
    codes = [
        Text(str(entry.exit_code), style=STYLES[Outcome.FAILED] if entry.exit_code == 1 else "")
        for entry in entries
    ]
    owners = [visible(entry.workspace_name) or "-" for entry in entries]
    reasons = [visible(entry.reason) for entry in entries]
    suites = [visible(suites_shown(entry)) or "-" for entry in entries]
    versions = [visible(entry.version) for entry in entries]
    several = len({entry.workspace for entry in entries}) > 1
    return [
        *([Column("workspace", owners)] if several else []),
        Column("run", [visible(entry.name) for entry in entries]),
        Column("environment", [visible(entry.target) or "-" for entry in entries], 1),
        *([Column("suites", suites, 5)] if any(entry.commit_hash for entry in entries) else []),
        *([Column("version", versions, 6)] if any(versions) else []),
        Column("outcomes", outcomes, wraps=True),
        Column("time", [clock(entry.seconds) for entry in entries], 2, right=True),
        Column("exit", codes, 3, right=True),
        *([Column("ended", reasons, 4, wraps=True)] if any(reasons) else []),
    ]


def _outcomes(entry: RunEntry) -> Text:
    counts = dict(entry.counts)
    quarantined = counts.pop(QUARANTINED, 0)
    text = counted(Counter({Outcome(name): count for name, count in counts.items()}))
    if quarantined:
        return text.append(f", {quarantined} {QUARANTINED}")
    return text


def suites_shown(entry: RunEntry) -> str:
    """The commit of a run's suites: ``v1.4``, ``1a2b3c4d5e``, ``1a2b3c4d5e+``.

    With the plus sign, files differed from the commit.
    """
    if entry.revision and entry.revision != entry.commit_hash:
        return entry.revision
    return entry.commit_hash[:SHORT] + ("+" if entry.changed else "")


def test_table(histories: Sequence[TestHistory], width: int) -> list[Column]:
    """Tests with a mark for each run, the newest on the right."""
    most = max(width // 4, 10)
    ran = [len(history.counted) for history in histories]
    pairs = list(zip(histories, ran, strict=True))
    owners = [visible(history.workspace) or "-" for history in histories]
    return [
        *([Column("workspace", owners)] if any(h.workspace for h in histories) else []),
        Column("over time", [_marks(history, most) for history in histories]),
        Column("passed", [f"{h.passed} of {n}" if n else "-" for h, n in pairs], 1, right=True),
        Column("flaky", [f"{h.flake_rate:.0%}" if n else "-" for h, n in pairs], 2, right=True),
        Column("median", [clock(h.median) if n else "-" for h, n in pairs], 3, right=True),
        Column("test", [visible(history.address) for history in histories], wraps=True),
    ]


def _marks(history: TestHistory, most: int) -> Text:
    return _line_of(tuple([ended.outcome if ended else "" for ended in history.ended[-most:]]))


@lru_cache(maxsize=4096)
def _line_of(outcomes: Sequence[str]) -> Text:
    """A mark for each outcome. Tests with equal outcomes share a line, because few lines differ."""
    line = Text()
    for each in outcomes:
        outcome = None
        if each:
            outcome = Outcome(each)
        line.append(MARKS[outcome] if outcome else ABSENT, style=STYLES[outcome] if outcome else "")
    return line


def legend(width: int) -> Text:
    """The meaning of the marks, in lines of at most ``width`` columns."""
    text = Text("the newest run is on the right:", style="dim")
    used = len(text)
    for outcome, mark in MARKS.items():
        entry = Text.assemble("  ", (mark, STYLES[outcome]), f" {outcome}")
        used += len(entry)
        if used > width:
            text.append("\n")
            used = len(entry)
        text.append_text(entry)
    return text


def runs_as_json(entries: Sequence[RunEntry]) -> str:
    """An array of objects, one for each run."""
    return json.dumps([to_builtins(entry) for entry in entries], indent=1, ensure_ascii=False)


def tests_as_json(histories: Sequence[TestHistory], entries: Sequence[RunEntry]) -> str:
    """An array of objects, one for each test, with its outcome in each of its runs."""
    names = [entry.name for entry in reversed(entries)]
    rows = [
        {
            "address": history.address,
            **({"workspace": history.workspace} if history.workspace else {}),
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
