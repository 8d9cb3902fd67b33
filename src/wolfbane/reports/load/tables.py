"""The figures of a load test as tables and lines of text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.text import Text

from wolfbane.basis.units import bytes_shown
from wolfbane.events.load_events import LoadFinished, LoadMachine, LoadStarted
from wolfbane.load.figures import LoadFigures, StepFigures
from wolfbane.load.measurements import PERCENTS, ErrorKind
from wolfbane.reports.console.layout import Column, facts, wrapped
from wolfbane.reports.text import clock, many, visible

TITLES = ("median", "90%", "95%", "99%", "99.9%")
_RANKS = {50.0: 0, 90.0: 5, 95.0: 0, 99.0: 1, 99.9: 4}
_BAD = "bold indian_red1"


def load_facts(event: LoadStarted, width: int) -> Text:
    """The shape of the load test, its targets, and its limits."""
    return facts([(title, Text(visible(text))) for title, text in load_rows(event)], width)


def load_rows(event: LoadStarted) -> list[tuple[str, str]]:
    """Titles and texts of these facts; a title is empty if the text continues."""
    rows = [("load", _shape(event))]
    pause = ""
    if any(event.pause):
        pause = f", pause of {_pause(event.pause)} after each"
    order = "in document order"
    if event.order == "random":
        order = "shuffled"
    share = f"{event.contract * 100:g}% of the responses checked against the API description"
    processes = "1 process"
    if event.processes > 1:
        processes = f"{event.processes} processes"
    rows.append(("", f"workflows {order}{pause}; {share}; {processes}, seed {event.seed}"))
    if event.machines:
        rows.append(("", _machines(event.machines)))
    rows.append(("to", ", ".join(event.addresses)))
    rows += [("limit" if not n else "", text) for n, text in enumerate(event.limits)]
    return rows


def _shape(event: LoadStarted) -> str:
    top = max(value for _, value in event.points)
    ramp = event.points[-1][0]
    if len(event.points) > 2:
        unit = ""
        if event.open:
            unit = "/s"
        stages = [f"{value:g}{unit} at {clock(when)}" for when, value in event.points]
        return f"{'workflows' if event.open else 'users'}: {', '.join(stages)}"
    if event.open:
        what = f"{top:g} workflow starts per second"
    else:
        what = many(event.users, "user")
    if event.open:
        what += f", at most {event.users:,} concurrently"
    if ramp:
        what += f", reached after {clock(ramp)}"
    if event.until is not None:
        return f"{what}, for {clock(event.until)}"
    return f"{what}, each {many(event.loops, 'loop')}"


def _machines(machines: Sequence[LoadMachine]) -> str:
    """The machines of the processes, and how well their clocks agree."""
    where = f"on {', '.join(f'{each.name} ({each.processes})' for each in machines)}"
    error = max(each.clock_error for each in machines)
    if error:
        return f"{where}; clocks differ by at most {error * 1000:.1f} ms"
    return where


def _pause(pause: tuple[float, float]) -> str:
    low, high = pause
    if low == high:
        return clock(low)
    return f"{clock(low)} to {clock(high)}"


def step_columns(
    figures: LoadFigures, keys: Sequence[tuple[str, str]], *, marked: bool
) -> list[Column]:
    """A row for each workflow and, below it, for its steps; all requests in the last row.

    ``marked`` puts a sign before times that the generator may have increased.
    """
    rows = figures.in_order(keys)
    several = len(rows) > 2
    names = [
        Text(f"  {visible(step)}") if step else Text(visible(_name(workflow)), style="bold")
        for (workflow, step), _ in rows
    ]
    shown = [each for _, each in rows]
    whole = figures.requests
    sign = ""
    if marked:
        sign = "~"

    def column(title: str, cell: object, rank: int = 0) -> Column:
        assert callable(cell)
        footer = cell(whole) if several else None
        return Column(title, [cell(each) for each in shown], rank, right=True, footer=footer)

    def time_at(percent: float) -> object:
        return lambda step: sign + span(step.whole.percentile(percent))

    columns = [
        Column("step", names, wraps=True, footer="all requests" if several else None),
        column("count", lambda step: f"{step.count:,}"),
        column("failed", _failed),
        column("per second", lambda step: _rate(step, figures.seconds), 3),
    ]
    columns += [
        column(title, time_at(percent), _RANKS[percent])
        for title, percent in zip(TITLES, PERCENTS, strict=True)
    ]
    columns.append(column("longest", lambda step: sign + span(step.whole.largest / 1e6), 2))
    columns.append(column("mean", lambda step: sign + span(step.whole.mean), 6))
    columns.append(column("first byte", lambda step: _part(step, "first_byte", sign), 7))
    columns.append(column("connect", lambda step: _part(step, "connect", sign), 8))
    columns.append(column("TLS", lambda step: _part(step, "tls", sign), 9))
    columns.append(column("received", lambda step: bytes_shown(step.received), 10))
    columns.append(column("sent", lambda step: bytes_shown(step.sent), 11))
    return columns


def span(seconds: float) -> str:
    """The time of a request: ``1.4 ms``, ``312 ms``, ``2.05 s``."""
    if seconds < 0.00995:
        return f"{seconds * 1000:.1f} ms"
    if seconds < 0.9995:
        return f"{seconds * 1000:.0f} ms"
    return f"{seconds:.2f} s"


def _name(workflow: str) -> str:
    return workflow.rpartition("#")[2]


def _failed(step: StepFigures) -> Text:
    if not step.failed:
        return Text("-", style="dim")
    share = step.failed / max(step.count, 1) * 100
    return Text(f"{step.failed:,} ({share:.1f}%)", style=_BAD)


def _rate(step: StepFigures, seconds: float) -> str:
    if seconds:
        return f"{step.count / seconds:.1f}"
    return "-"


def _part(step: StepFigures, part: str, sign: str) -> str:
    histogram = step.times.get(part)
    if histogram is not None:
        return sign + span(histogram.percentile(50))
    return "-"


def error_lines(errors: Sequence[ErrorKind], folder: str, width: int) -> Iterator[Text]:
    """Errors by kind, each with the file of its first exchange."""
    for error in errors:
        message = f"{_name(error.workflow)}, {error.step}: {visible(error.kind)}"
        for number, line in enumerate(wrapped(message, max(width - 9, 30))):
            yield Text.assemble((f"{error.count if not number else '':>7}  ", _BAD), line)
        if error.exchange:
            yield Text(f"         {folder}/{error.exchange}", style="dim")


def limit_lines(event: LoadFinished) -> Iterator[Text]:
    """Each limit, whether it was met, and what was measured."""
    room = max((len(text) for text, _, _ in event.limits), default=0)
    for text, met, measured in event.limits:
        if met:
            word = ("met     ", "dark_cyan")
        else:
            word = ("missed  ", _BAD)
        yield Text.assemble(word, f"{visible(text):<{room}}  ", ("measured: ", "dim"), measured)
