"""The stored runs, as text and as JSON: verdict, selection and size."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from rich.text import Text

from wolfbane.basis.units import bytes_shown
from wolfbane.events.run_events import RunFinished
from wolfbane.model import Outcome
from wolfbane.reports.console.layout import Column
from wolfbane.reports.text import visible
from wolfbane.reports.verdict import limits_words, of_tests, sentence
from wolfbane.results.retention import Kept


def kept_table(runs: Sequence[Kept]) -> list[Column]:
    """Runs, the newest first. An interrupted or running run has no end."""
    suites = [_revision(run) for run in runs]
    return [
        Column("run", [run.name for run in runs]),
        Column("started", [f"{run.began:%Y-%m-%d %H:%M}" for run in runs], 2),
        Column("verdict", [_verdict(run) for run in runs], wraps=True),
        *([Column("suites", suites, 5)] if any(suites) else []),
        Column("selection", [visible(_selection(run)) for run in runs], 1, wraps=True),
        Column("size", [bytes_shown(run.size) for run in runs], 3, right=True),
        Column("evidence", [bytes_shown(run.evidence) for run in runs], 4, right=True),
    ]


def as_json(runs: Sequence[Kept]) -> str:
    """An array of objects, one for each run."""
    rows = [
        {
            "run": run.name,
            "began": run.began.isoformat(),
            "verdict": _verdict(run).plain,
            "exit_code": _finished(run).get("exit_code"),
            "selection": _selection(run),
            "revision": _revision(run),
            "commit": _state(run).get("commit", ""),
            "bytes": run.size,
            "evidence": run.evidence,
        }
        for run in runs
    ]
    return json.dumps(rows, indent=1, ensure_ascii=False)


def _finished(run: Kept) -> Mapping[str, Any]:
    return run.summary.get("finished") or {}


def _selection(run: Kept) -> str:
    return str((run.summary.get("started") or {}).get("expression", ""))


def _state(run: Kept) -> Mapping[str, Any]:
    return (run.summary.get("started") or {}).get("suite_state") or {}


def _revision(run: Kept) -> str:
    """The value of ``--at``."""
    return visible(str(_state(run).get("revision", "")))


def _verdict(run: Kept) -> Text:
    finished = _finished(run)
    if not finished:
        return Text("running" if run.goes_on else "interrupted", style="khaki1")
    counts = {Outcome(name): count for name, count in finished["counts"].items()}
    event = RunFinished(0.0, finished["exit_code"], finished["counts"], reason=finished["reason"])
    limits = {Outcome(name): count for name, count in finished.get("limits", {}).items()}
    verdict = sentence(counts, of_tests(event) if limits else event, Counter(counts).total())
    if limits:
        verdict += f", {limits_words(limits)}"
    return Text(verdict, style="indian_red1" if finished["exit_code"] else "dark_cyan")
