"""Builds the report page: one file with styles, script and data."""

from __future__ import annotations

import hashlib
from base64 import b64encode
from collections import Counter
from collections.abc import Sequence
from datetime import datetime
from importlib.resources import files
from typing import Any
from urllib.parse import quote

import jinja2
from msgspec.structs import replace

from wolfbane import __version__
from wolfbane.basis.units import bytes_shown
from wolfbane.events.run_events import RunStarted
from wolfbane.load.figures import StepFigures
from wolfbane.load.measurements import PERCENTS, Measurements
from wolfbane.model import LIMITS, Outcome, Result
from wolfbane.reports.console.header import how_it_runs
from wolfbane.reports.console.matrix import browser_rows
from wolfbane.reports.console.style import ORDER
from wolfbane.reports.html.data import as_script, details, excerpt_shown, index
from wolfbane.reports.html.groups import grouped
from wolfbane.reports.html.kept import Keeper
from wolfbane.reports.html.timeline import lanes
from wolfbane.reports.load.charts import charts
from wolfbane.reports.load.tables import TITLES, load_rows, span
from wolfbane.reports.text import clock, many, repeating, repeating_failed, visible
from wolfbane.reports.verdict import CUT_OFF, sentence_of
from wolfbane.results.record import LoadRecord, Record

SCRIPTS = (
    "rows.js",
    "filters.js",
    "nodes.js",
    "list.js",
    "replay.js",
    "test.js",
    "keys.js",
    "main.js",
)
GROUPS = 60
ROWS = 200
_ENVIRONMENT = jinja2.Environment(
    loader=jinja2.PackageLoader("wolfbane.reports.html", "page"),
    autoescape=True,
    undefined=jinja2.StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)
_ENVIRONMENT.globals.update(
    clock=clock,
    many=many,
    repeating=repeating,
    repeating_failed=repeating_failed,
    visible=visible,
    excerpt_shown=excerpt_shown,
    how_it_runs=how_it_runs,
    link=lambda address: f"#test={quote(address, safe='')}",
    listed=lambda **fields: "#" + "&".join(f"{k}={quote(v, safe='')}" for k, v in fields.items()),
    diff=lambda line: {"+": "more", "-": "less", "?": "hint"}.get(line[:1], ""),
)


def write_html(record: Record) -> bytes:
    """The report of a run. It loads nothing, and no text of a test is markup."""
    script = "\n".join(_part(name) for name in SCRIPTS)
    keeper = Keeper(record.folder)
    started = record.started
    if started:
        quarantined = started.quarantined
    else:
        quarantined = {}
    if started:
        pointed = started.pointed
    else:
        pointed = ()
    template = _ENVIRONMENT.get_template("report.html")
    page = template.render(
        **_contents(record),
        version=__version__,
        style=_part("report.css"),
        script=script,
        script_hash=b64encode(hashlib.sha256(script.encode()).digest()).decode(),
        index=as_script(index(record.results, quarantined, pointed)),
        details=((number, as_script(piece)) for number, piece in details(record.results, keeper)),
    )
    return page.encode("utf-8", "backslashreplace")


def _part(name: str) -> str:
    return (files("wolfbane.reports.html") / "page" / name).read_text(encoding="utf-8")


def _contents(record: Record) -> dict[str, Any]:
    started, finished = record.started, record.finished or CUT_OFF
    if started:
        quarantined = started.quarantined
    else:
        quarantined = {}
    tests = [r for r in record.results if r.path != LIMITS]  # limits have a table of their own
    counted = [r for r in tests if r.address not in quarantined]
    bad = [r for r in counted if r.outcome.is_bad]
    blocked = [r for r in counted if r.outcome is Outcome.BLOCKED]
    counts = Counter(r.outcome for r in counted)
    groups = grouped(bad)
    browsers, rows = browser_rows(record.results)
    seconds = max([finished.seconds, *(r.began + r.seconds for r in record.results)])
    return {
        "run": started,
        "finished": finished,
        "began": f"{datetime.fromisoformat(started.began):%d %B %Y, %H:%M}" if started else "",
        "title": sentence_of(record),
        "failed": bool(bad),
        "good": finished.exit_code == 0,
        "counts": [(o, counts[o]) for o in ORDER if counts[o]],
        "whole": max(len(record.results), 1),
        "groups": groups[:GROUPS],
        "more_groups": groups[GROUPS:],
        "blocked": grouped(blocked),
        "flaky": [r for r in counted if r.outcome is Outcome.FLAKY],
        "quarantined": [
            (r, quarantined[r.address]) for r in record.results if r.address in quarantined
        ],
        "skipped": _reasons(counted),
        "browsers": browsers,
        "matrix": list(rows.items())[:ROWS],
        "more_rows": len(rows) - ROWS,
        "lanes": lanes(record.results, seconds),
        "seconds": seconds,
        "places": _places(started),
        "covered": record.covered,
        "ORDER": ORDER,
        "load": _load(record),
    }


def _load(record: Record) -> dict[str, Any] | None:
    if record.load is None:
        return None

    return load_contents(record.load)


def _reasons(results: Sequence[Result]) -> list[tuple[str, list[Result]]]:
    """The reasons for skipped tests, with their tests, the most frequent first."""
    by_reason: dict[str, list[Result]] = {}
    for result in results:
        if result.outcome is Outcome.SKIPPED:
            reason = visible(result.message.partition("\n")[0]) or "no reason given"
            by_reason.setdefault(reason, []).append(result)
    return sorted(by_reason.items(), key=lambda each: -len(each[1]))


def _places(started: RunStarted | None) -> list[tuple[str, dict[str, str]]]:
    """The environments of the run, if it has any."""
    if started:
        targets = started.targets
    else:
        targets = ()
    return [
        (target.label or target.environment, target.parameters)
        for target in targets
        if target.label or target.environment or target.parameters
    ]


def load_contents(load: LoadRecord) -> dict[str, Any]:
    """Charts, the table by step, errors and limits."""
    measured = Measurements(load)
    if measured.finished:
        limits = measured.finished.limits
    else:
        limits = ()
    seconds = measured.figures.seconds
    sign = ""
    if measured.limited:
        sign = "~"
    return {
        # The limits are rows of a table of their own, with what was measured.
        "facts": load_rows(replace(measured.started, limits=()) if limits else measured.started),
        "limited": measured.limited,
        "finished": measured.finished,
        "charts": charts(measured),
        "titles": ("count", "failed", "per second", *TITLES, "longest", "first byte", "received"),
        "rows": [(key, _cells(figures, seconds, sign)) for key, figures in measured.steps],
        "whole": _cells(measured.figures.requests, seconds, sign),
        "errors": measured.errors,
        "limits": limits,
    }


def _cells(figures: StepFigures, seconds: float, sign: str) -> list[str]:
    failed = f"{figures.failed:,} ({figures.failed / max(figures.count, 1) * 100:.1f}%)"
    first = figures.times.get("first_byte")
    whole = figures.whole
    return [
        f"{figures.count:,}",
        failed if figures.failed else "-",
        f"{figures.count / seconds:.1f}" if seconds else "-",
        *(sign + span(whole.percentile(percent)) for percent in PERCENTS),
        sign + span(whole.largest / 1e6),
        sign + span(first.percentile(50)) if first is not None else "-",
        bytes_shown(figures.received),
    ]
