"""The charts of a load test as SVG: values over time, and the distribution of response times."""

from __future__ import annotations

import io
import logging
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from wolfbane.basis.histogram import Histogram
from wolfbane.load.measurements import Measurements, Series

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_INK, _LINE = "#010203", "#010204"
_GOOD, _BAD, _WARM, _COOL = "#010205", "#010206", "#010207", "#010208"
_IN_THE_PAGE = {
    _INK: "var(--dim)",
    _LINE: "var(--line)",
    _GOOD: "var(--passed)",
    _BAD: "var(--failed)",
    _WARM: "var(--errored)",
    _COOL: "var(--skipped)",
}
"""Placeholder colours for those of the page, which change with its theme."""
_SIZE = (4.6, 2.5)
"""Inches. A phone shows it at two thirds of that size, and its texts are still readable."""
_NINES = (0.0, 50.0, 90.0, 99.0, 99.9, 99.99)


class Chart:
    """A chart with one pair of axes, in the colours of the page."""

    def __init__(self, title: str, across: str, up: str) -> None:
        logging.getLogger("matplotlib").setLevel(logging.ERROR)
        from matplotlib.figure import Figure

        self.title = title
        self._figure: Figure = Figure(figsize=_SIZE, layout="constrained")
        self.axes: Axes = self._figure.add_subplot()
        self.axes.set_xlabel(across)
        self.axes.set_ylabel(up)

    def svg(self) -> str:
        """The figure as an HTML element, with its title for screen readers."""
        import matplotlib as mpl

        axes = self.axes
        axes.spines[["top", "right"]].set_visible(False)
        axes.spines[["left", "bottom"]].set_color(_LINE)
        axes.tick_params(colors=_INK, labelsize=9, length=3)
        axes.grid(axis="y", color=_LINE, linewidth=0.6)
        axes.set_axisbelow(True)
        for label in (axes.xaxis.label, axes.yaxis.label):
            label.set_color(_INK)
            label.set_fontsize(9)
        if len(axes.get_legend_handles_labels()[0]) > 1:
            axes.legend(
                loc="lower left",
                bbox_to_anchor=(0, 1.0),
                ncols=4,
                frameon=False,
                fontsize=9,
                labelcolor=_INK,
                borderaxespad=0,
            )
        written = io.StringIO()
        with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": self.title}):
            self._figure.savefig(written, format="svg", transparent=True, metadata={"Date": None})
        text = written.getvalue()
        text = text[text.index("<svg") :]
        text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.DOTALL)
        for colour, name in _IN_THE_PAGE.items():
            text = text.replace(colour, name)
        named = f'<svg role="img" aria-label="{self.title}" class="chart"'
        return re.sub(r'^<svg (?:(?:width|height)="[^"]*" ?)*', f"{named} ", text)


def charts(measured: Measurements) -> list[tuple[str, str]]:
    """Titles and SVGs: rate and errors, users, times over time, and the distribution."""
    series = measured.series
    made = [_rate(series), _users(series), _times(series), _distribution(measured)]
    return [(chart.title, chart.svg()) for chart in made]


def _seconds(series: Series) -> range:
    return range(1, len(series.users) + 1)


def _rate(series: Series) -> Chart:
    chart = Chart("Requests per second", "seconds", "per second")
    good = [sent - bad for sent, bad in zip(series.requests, series.failed, strict=True)]
    chart.axes.bar(_seconds(series), good, width=0.8, color=_GOOD, label="successful")
    if any(series.failed):
        chart.axes.bar(
            _seconds(series), series.failed, width=0.8, bottom=good, color=_BAD, label="failed"
        )
    chart.axes.set_ylim(bottom=0)
    return chart


def _users(series: Series) -> Chart:
    chart = Chart("Users", "seconds", "in progress")
    chart.axes.step(_seconds(series), series.users, where="mid", color=_COOL, linewidth=1.8)
    chart.axes.set_ylim(bottom=0)
    return chart


def _times(series: Series) -> Chart:
    chart = Chart("Response time", "seconds", "milliseconds")
    for name, values, colour in (
        ("99%", series.p99, _BAD),
        ("95%", series.p95, _WARM),
        ("median", series.median, _GOOD),
    ):
        shown = [float("nan") if value is None else value * 1000 for value in values]
        chart.axes.plot(
            _seconds(series), shown, color=colour, linewidth=1.6, marker=".", ms=4, label=name
        )
    chart.axes.set_ylim(bottom=0)
    return chart


def _distribution(measured: Measurements) -> Chart:
    chart = Chart("Distribution of response times", "percent of requests", "milliseconds")
    draw_distribution(chart.axes, [("requests", measured.figures.requests.whole, _GOOD)])
    return chart


def draw_distribution(axes: Axes, lines: Sequence[tuple[str, Histogram, str]]) -> None:
    """Times by percentile, on an axis with equal space for each further nine."""
    import numpy as np

    deepest = max((histogram.count for _, histogram, _ in lines), default=1)
    last = float(np.log10(max(deepest, 10)))
    places = np.linspace(0, last, 200)
    for name, histogram, colour in lines:
        percents = 100 * (1 - 10**-places)
        values = [histogram.percentile(percent) * 1000 for percent in percents]
        axes.plot(places, values, color=colour, linewidth=1.8, label=name)
    ticks = [each for each in _NINES if -np.log10(1 - each / 100) <= last + 0.01]
    axes.set_xticks([-np.log10(1 - each / 100) for each in ticks], [f"{t:g}%" for t in ticks])
    axes.set_ylim(bottom=0)
    axes.set_xlim(0, last)
