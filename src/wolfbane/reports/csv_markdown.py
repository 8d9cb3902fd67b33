"""Results as CSV, and as Markdown for the summary page of a CI job."""

from __future__ import annotations

import csv
import io
from collections import Counter

from wolfbane.model import Outcome, Result
from wolfbane.reports.text import clock, many, visible
from wolfbane.results.record import Record

_COLUMNS = (
    "address",
    "suite",
    "kind",
    "path",
    "name",
    "browser",
    "target",
    "outcome",
    "attempts",
    "seconds",
    "tags",
    "message",
)
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
MOST = 50
_MARKS = {
    Outcome.PASSED: "✅",
    Outcome.FLAKY: "🔁",
    Outcome.FAILED: "❌",
    Outcome.ERRORED: "❌",
    Outcome.TIMED_OUT: "⏱",
    Outcome.CRASHED: "💥",
    Outcome.BLOCKED: "🚧",
    Outcome.SKIPPED: "⏭",
    Outcome.TODO: "📝",
}


def write_csv(record: Record) -> bytes:
    """One line for each test, UTF-8; for a load test, one for each step. No cell is a formula."""
    if record.load is not None:
        from wolfbane.reports.load.csv_markdown import load_csv

        return load_csv(record.load)
    made = io.StringIO(newline="")
    table = csv.writer(made)
    table.writerow(_COLUMNS)
    for r in record.results:
        first = visible(r.message.partition("\n")[0])
        row = (
            r.address,
            r.suite,
            r.kind,
            r.path,
            r.name,
            r.browser,
            r.target,
            str(r.outcome),
            r.attempt,
            f"{r.seconds:.6f}",
            " ".join(r.tags),
            first,
        )
        table.writerow([_plain(cell) for cell in row])
    return made.getvalue().encode("utf-8", "backslashreplace")


def _plain(cell: object) -> object:
    if isinstance(cell, str):
        shown = visible(cell)
        if shown.startswith(_FORMULA):
            return f"'{shown}"
        return shown
    return cell


def write_markdown(record: Record) -> bytes:
    """The verdict, a table of suites, and the tests that did not pass, for quick reading."""
    started, finished = record.started, record.finished
    name = "Tests"
    if started:
        name = started.workspace
    if started:
        quarantined = started.quarantined
    else:
        quarantined = {}
    counted = [r for r in record.results if r.address not in quarantined]
    counts = Counter(r.outcome for r in counted)
    bad = [r for r in counted if r.outcome.is_bad]
    verdict = "passed"
    if finished is None or finished.exit_code:
        verdict = "failed"
    message = ", ".join(f"{counts[o]} {o}" for o in Outcome if counts[o])
    if apart := len(record.results) - len(counted):
        message += f", {apart} quarantined"
    lines = [f"## {_cell(name)}: {verdict}", ""]
    seconds = ""
    if finished:
        seconds = f" in {clock(finished.seconds)}"
    reason = ""
    if finished and finished.reason:
        reason = f"; {_cell(finished.reason)}"
    lines += [f"{message}{seconds}{reason}", "", *_suites(counted), ""]
    if record.load is not None:
        from wolfbane.reports.load.csv_markdown import load_markdown

        lines += load_markdown(record.load)
    for title, group in (
        ("Failed", bad),
        ("Blocked", [r for r in counted if r.outcome is Outcome.BLOCKED]),
        ("Flaky", [r for r in counted if r.outcome is Outcome.FLAKY]),
        ("Quarantined", [r for r in record.results if r.address in quarantined]),
    ):
        lines += _group(title, group)
    return ("\n".join(lines).rstrip() + "\n").encode("utf-8", "backslashreplace")


def _suites(results: list[Result]) -> list[str]:
    present = [o for o in Outcome if any(r.outcome is o for r in results)]
    lines = ["| suite | tests | " + " | ".join(map(str, present)) + " | time |"]
    lines.append("|---|" + "---:|" * (len(present) + 2))
    for suite in dict.fromkeys(r.suite for r in results):
        own = [r for r in results if r.suite == suite]
        counts = Counter(r.outcome for r in own)
        cells = " | ".join(str(counts[o] or "") for o in present)
        time = clock(sum(r.seconds for r in own))
        lines.append(f"| {_cell(suite)} | {len(own)} | {cells} | {time} |")
    return lines


def _group(title: str, results: list[Result]) -> list[str]:
    if not results:
        return []
    lines = [f"### {title}", ""]
    for result in results[:MOST]:
        lines.append(f"- {_MARKS[result.outcome]} `{_code(result.address)}`")
        shown = result.message or (result.earlier[-1].message if result.earlier else "")
        if shown:
            lines.append(f"  <br>{_cell(shown.partition(chr(10))[0])}")
    if len(results) > MOST:
        lines.append(f"- and {many(len(results) - MOST, 'more test')}")
    return [*lines, ""]


def _cell(text: str) -> str:
    """Text that is neither Markdown nor HTML."""
    shown = visible(text).replace("\n", " ")
    for mark in "\\`*_{}[]()#+!|~":
        shown = shown.replace(mark, f"\\{mark}")
    return shown.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def _code(text: str) -> str:
    """Text inside backticks."""
    return visible(text).replace("`", "'").replace("\n", " ")
