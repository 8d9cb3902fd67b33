"""Reads a load test from its record: the totals, and the figures of each second."""

from __future__ import annotations

from collections import Counter
from typing import Any

import msgspec

from wolfbane.events.load_events import LoadError, LoadFinished, LoadStarted
from wolfbane.load.figures import LoadFigures, StepFigures
from wolfbane.results.record import LoadRecord

PERCENTS = (50.0, 90.0, 95.0, 99.0, 99.9)
"""The percentiles that tables show."""


class Series(msgspec.Struct):
    """The figures of each second: counts, and times in seconds (None if nothing ended)."""

    users: list[int] = msgspec.field(default_factory=list)
    requests: list[int] = msgspec.field(default_factory=list)
    failed: list[int] = msgspec.field(default_factory=list)
    median: list[float | None] = msgspec.field(default_factory=list)
    p95: list[float | None] = msgspec.field(default_factory=list)
    p99: list[float | None] = msgspec.field(default_factory=list)


class ErrorKind(msgspec.Struct, frozen=True):
    """Errors of one kind at a step; ``message`` and ``exchange`` are those of the first error."""

    workflow: str
    step: str
    kind: str
    count: int
    message: str = ""
    exchange: str = ""


class Measurements:
    """All facts from the record of a load test."""

    def __init__(self, load: LoadRecord) -> None:
        assert load.started is not None
        self.started: LoadStarted = load.started
        self.finished: LoadFinished | None = load.finished
        self.figures, self.series = LoadFigures(), Series()
        for second in load.seconds:
            self.figures.add(second.rows)
            one = LoadFigures()
            one.add(second.rows)
            requests = one.requests
            self.series.users.append(second.users)
            self.series.requests.append(requests.count)
            self.series.failed.append(requests.failed)
            for name, percent in (("median", 50.0), ("p95", 95.0), ("p99", 99.0)):
                value = None
                if requests.count:
                    value = requests.whole.percentile(percent)
                getattr(self.series, name).append(value)
        if load.finished:
            ended = load.finished.seconds
        else:
            ended = float(len(load.seconds))
        self.figures.seconds = ended
        self._errors = load.errors

    @property
    def limited(self) -> str:
        """The reason why the generator was the bottleneck, if it was."""
        if self.finished:
            return self.finished.limited
        return ""

    @property
    def steps(self) -> list[tuple[tuple[str, str], StepFigures]]:
        """The workflows and their steps, in the order of their documents."""
        return self.figures.in_order(self.started.keys)

    @property
    def errors(self) -> list[ErrorKind]:
        """Errors by kind, the most frequent first."""
        counts: Counter[tuple[str, str, str]] = Counter()
        for (workflow, step), each in self.figures.steps.items():
            if step:
                counts.update({(workflow, step, kind): n for kind, n in each.errors.items()})
        first: dict[tuple[str, str, str], LoadError] = {
            (each.workflow, each.step, each.kind): each for each in self._errors
        }
        kinds = []
        for key, count in counts.most_common():
            example = first.get(key)
            message, exchange = (example.message, example.exchange) if example else ("", "")
            kinds.append(ErrorKind(*key, count, message, exchange))
        return kinds

    def as_data(self) -> dict[str, Any]:
        """All data for JSON; times are in seconds."""
        return {
            "started": self.started,
            "finished": self.finished,
            "steps": [_row(*key, step, self.figures.seconds) for key, step in self.steps],
            "requests": _row("", "", self.figures.requests, seconds=self.figures.seconds),
            "series": self.series,
            "errors": self.errors,
        }


def _row(workflow: str, step: str, figures: StepFigures, seconds: float) -> dict[str, Any]:
    times = {
        part: {
            "mean": round(histogram.mean, 6),
            **{f"p{p:g}": round(histogram.percentile(p), 6) for p in PERCENTS},
            "max": histogram.largest / 1e6,
        }
        for part, histogram in figures.times.items()
    }
    rate = 0.0
    if seconds:
        rate = round(figures.count / seconds, 3)
    return {
        "workflow": workflow,
        "step": step,
        "count": figures.count,
        "failed": figures.failed,
        "per_second": rate,
        "sent_bytes": figures.sent,
        "received_bytes": figures.received,
        "seconds": times,
        "errors": dict(figures.errors),
    }
