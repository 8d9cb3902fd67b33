"""The load-test section of the report page."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from wolfbane.basis.units import bytes_shown
from wolfbane.load.figures import StepFigures
from wolfbane.load.measurements import PERCENTS, Measurements
from wolfbane.reports.load.charts import charts
from wolfbane.reports.load.tables import TITLES, load_rows, span
from wolfbane.results.record import LoadRecord


def load_contents(load: LoadRecord) -> dict[str, Any]:
    """Charts, the table by step, errors and limits."""
    measured = Measurements(load)
    limits = measured.finished.limits if measured.finished else ()
    seconds = measured.figures.seconds
    sign = "~" if measured.limited else ""
    return {
        # The limits are rows of a table of their own, with what was measured.
        "facts": load_rows(replace(measured.started, limits=()) if limits else measured.started),
        "limited": measured.limited,
        "finished": measured.finished,
        "charts": charts(measured),
        "titles": ("count", "failed", "per second", *TITLES, "longest", "first byte", "received"),
        "rows": [
            (key, _cells(figures, seconds, sign)) for key, figures in measured.steps
        ],
        "whole": _cells(measured.figures.requests, seconds, sign),
        "errors": measured.errors,
        "limits": limits,
    }  # fmt: skip


def _cells(figures: StepFigures, seconds: float, sign: str) -> list[str]:
    failed = f"{figures.failed:,} ({figures.failed / max(figures.count, 1) * 100:.1f}%)"
    first = figures.times.get("first_byte")
    whole = figures.whole
    return [
        f"{figures.count:,}", failed if figures.failed else "-",
        f"{figures.count / seconds:.1f}" if seconds else "-",
        *(sign + span(whole.percentile(percent)) for percent in PERCENTS),
        sign + span(whole.largest / 1e6),
        sign + span(first.percentile(50)) if first is not None else "-",
        bytes_shown(figures.received),
    ]  # fmt: skip
