"""Shows a load test on the console, during the test and at its end."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from wolfbane.events.load_events import LoadError, LoadFinished, LoadSecond, LoadStarted
from wolfbane.events.run_events import Covered, Event
from wolfbane.load.figures import LoadFigures
from wolfbane.load.measurements import Measurements
from wolfbane.reports.console.layout import fitted
from wolfbane.reports.console.summary import coverage_lines
from wolfbane.reports.load.tables import error_lines, limit_lines, load_facts, span, step_columns
from wolfbane.reports.text import clock, many, visible
from wolfbane.results.record import LoadRecord

if TYPE_CHECKING:
    from rich.live import Live

    from wolfbane.reports.console.style import Page

RECENT = 10
"""Seconds that the figures of the live view cover."""
_BARS = " ▁▂▃▄▅▆▇█"


class LoadView:
    """Prints the progress of a load test. ``every`` is the time between two lines, in seconds."""

    def __init__(
        self,
        console: Page,
        started: LoadStarted,
        folder: str,
        *,
        live: bool,
        quiet: bool,
        every: float,
    ) -> None:
        self._console, self._started, self._folder = console, started, folder
        self._quiet, self._every = quiet, every
        self._figures = LoadFigures()
        self._record = LoadRecord(started)
        self._recent: deque[LoadSecond] = deque(maxlen=RECENT)
        self._rates: deque[float] = deque(maxlen=60)
        self._since: list[LoadSecond] = []
        self._finished: LoadFinished | None = None
        self._live: Live | None = None
        if not quiet:
            console.print(load_facts(started, console.reading_width), soft_wrap=True)
            console.print()
        if live:
            from rich.live import Live

            self._live = Live(console=console, transient=True, auto_refresh=False)
            self._live.start()
        elif not quiet and started.until is not None:
            message = f"Each line shows the last {clock(every)}."
            console.print(Text(message, style="dim"))

    def __call__(self, event: Event) -> None:
        if isinstance(event, LoadSecond):
            self._second(event)
        elif isinstance(event, LoadError):
            self._record.errors.append(event)
        elif isinstance(event, LoadFinished):
            self._finished = self._record.finished = event
            self._figures.seconds = event.seconds
            self.close()

    def close(self) -> None:
        """Remove the live view in any case."""
        if self._live is not None:
            self._live.stop()
            self._live = None

    def _second(self, event: LoadSecond) -> None:
        self._record.seconds.append(event)
        self._figures.add(event.rows)
        self._figures.seconds = event.second + 1.0
        self._recent.append(event)
        self._rates.append(sum(row.count for row in event.rows if row.step))
        self._since.append(event)
        if self._live is not None:
            self._live.update(self._panel(event), refresh=True)
        elif not self._quiet and event.second + 1 - self._since[0].second >= self._every:
            self._console.print(self._line(event), soft_wrap=True)
            self._since.clear()

    def _line(self, event: LoadSecond) -> Text:
        """The figures since the previous line."""
        figures = LoadFigures()
        for second in self._since:
            figures.add(second.rows)
        requests = figures.requests
        rate = requests.count / len(self._since)
        times = requests.whole
        message = (
            f"{clock_of(event.second + 1)}  {many(event.users, 'user'):>9}  {rate:8.1f} requests/s"
            f"  median {span(times.percentile(50))}, 95% {span(times.percentile(95))}"
            f"  {requests.failed:,} failed"
        )
        return Text(message, style="bold indian_red1" if requests.failed else "")

    def _panel(self, event: LoadSecond) -> Text:
        figures = LoadFigures()
        for second in self._recent:
            figures.add(second.rows)
        requests, whole = figures.requests, self._figures.requests
        left = ""
        if self._started.until is not None:
            left = self._left(event)
        rate = requests.count / len(self._recent)
        rows = [
            ("time", f"{clock_of(event.second + 1)}{left}"),
            ("users", f"{event.users:,}" + (f", {event.late:,} late starts" if event.late else "")),
            ("requests", f"{rate:.1f} per second; {whole.count:,} in total"),
            (
                "times",
                f"median {span(requests.whole.percentile(50))}, "
                f"95% {span(requests.whole.percentile(95))}, "
                f"longest {span(requests.whole.largest / 1e6)}",
            ),
            ("failed", f"{requests.failed:,}; {whole.failed:,} in total"),
            ("last minute", _bars(self._rates)),
        ]
        lines = [
            Text.assemble((f"{title:<12}", "dim"), (text, self._style(title, requests.failed)))
            for title, text in rows
        ]
        caption = (
            f"The requests and times above cover the last {many(len(self._recent), 'second')}."
        )
        return Text("\n").join([*lines, Text(caption, style="dim")])

    def _style(self, title: str, failed: int) -> str:
        if title == "failed" and failed:
            return "bold indian_red1"
        if title == "last minute":
            return "dark_cyan"
        return ""

    def _left(self, event: LoadSecond) -> str:
        until = self._started.until or 0.0
        left = max(until - event.second - 1, 0.0)
        return f" of {clock_of(until)}, {clock_of(left)} left"

    def print_end(self, covered: Sequence[Covered]) -> None:
        """The tables of a load test that has ended or was interrupted."""
        self.close()
        finished, console = self._finished, self._console
        limited = ""
        if finished is not None:
            limited = finished.limited
        console.print()
        if limited:
            message = (
                f"The load generator was overloaded: {limited}. The measured times may be too long."
            )
            console.print(Text(message, style="bold khaki1"), soft_wrap=True)
        measured = Measurements(self._record)
        columns = step_columns(measured.figures, self._started.keys, marked=bool(limited))
        for part in fitted(console, columns, console.width):
            console.print(part)
        errors = [*error_lines(measured.errors, self._folder, console.reading_width)]
        if errors:
            for line in [Text("Errors", style="bold"), *errors, Text()]:
                console.print(line, soft_wrap=True)
        for each in covered:
            console.print(coverage_lines(each, console.reading_width))
        if finished is None:
            return
        for line in limit_lines(finished):
            console.print(line, soft_wrap=True)
        self._say_what_was_missed(finished)

    def _say_what_was_missed(self, finished: LoadFinished) -> None:
        lines = []
        if finished.late:
            lines.append(f"{many(finished.late, 'start')} more than 10 ms late")
        if finished.unstarted:
            lines.append(f"{many(finished.unstarted, 'start')} did not happen")
        if finished.trouble:
            lines.append(visible(finished.trouble))
        for message in lines:
            line = Text.assemble(("warning  ", "bold khaki1"), message)
            self._console.print(line, soft_wrap=True)


def clock_of(seconds: float) -> str:
    """A time of the load test: ``0:07``, ``12:30``."""
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes}:{rest:02d}"


def _bars(values: deque[float]) -> str:
    top = max(values, default=0)
    if not top:
        return ""
    return "".join(_BARS[round(value / top * (len(_BARS) - 1))] for value in values)
