"""The figures of a load test as CSV and as Markdown."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator

from wolfbane.load.measurements import PERCENTS, Measurements
from wolfbane.reports.load.tables import TITLES, span
from wolfbane.reports.text import visible
from wolfbane.results.record import LoadRecord

_COLUMNS = (
    "workflow",
    "step",
    "count",
    "failed",
    "per_second",
    "mean_s",
    *(f"p{percent:g}_s" for percent in PERCENTS),
    "max_s",
    "sent_bytes",
    "received_bytes",
)


def load_csv(load: LoadRecord) -> bytes:
    """A line for each workflow and for each step of it, UTF-8."""
    measured = Measurements(load)
    seconds = measured.figures.seconds
    made = io.StringIO(newline="")
    table = csv.writer(made)
    table.writerow(_COLUMNS)
    for (workflow, step), each in measured.steps:
        whole = each.whole
        table.writerow(
            [
                visible(workflow),
                visible(step),
                each.count,
                each.failed,
                f"{each.count / seconds:.3f}" if seconds else "",
                f"{whole.mean:.6f}",
                *(f"{whole.percentile(percent):.6f}" for percent in PERCENTS),
                f"{whole.largest / 1e6:.6f}",
                each.sent,
                each.received,
            ]
        )
    return made.getvalue().encode("utf-8", "backslashreplace")


def load_markdown(load: LoadRecord) -> Iterator[str]:
    """Limits, and a table by step."""
    measured = Measurements(load)
    if measured.finished:
        for text, met, shown in measured.finished.limits:
            yield f"- {'met' if met else '**missed**'}: `{text}` (measured: {shown})"
    yield ""
    yield f"| step | count | failed | {' | '.join(TITLES)} |"
    yield "|---" + "|--:" * (len(TITLES) + 2) + "|"
    for (workflow, step), each in measured.steps:
        name = (
            f"&nbsp;&nbsp;{_plain(step)}" if step else f"**{_plain(workflow.rpartition('#')[2])}**"
        )
        times = " | ".join(span(each.whole.percentile(percent)) for percent in PERCENTS)
        yield f"| {name} | {each.count:,} | {each.failed:,} | {times} |"
    yield ""


def _plain(text: str) -> str:
    return visible(text).replace("|", "\\|").replace("<", "&lt;")
