"""The figures of a load test: totals over all seconds, for each step and each workflow."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from wolfbane.basis.histogram import Histogram
from wolfbane.model import LoadRow

Key = tuple[str, str]
"""A workflow (``PATH#NAME``) and a step of it; without a step the whole workflow."""


class StepFigures:
    """Counts, bytes of bodies, errors by kind, and histograms of times."""

    def __init__(self) -> None:
        self.count = self.sent = self.received = 0
        self.errors: Counter[str] = Counter()
        self.times: dict[str, Histogram] = {}

    @property
    def failed(self) -> int:
        """How many failed."""
        return self.errors.total()

    @property
    def whole(self) -> Histogram:
        """The duration of the load test."""
        return self.times.get("whole") or Histogram()

    def add(self, row: LoadRow) -> None:
        """Add the figures of one process for one second."""
        self.count += row.count
        self.sent += row.sent
        self.received += row.received
        self.errors.update(row.errors)
        for part, data in row.times.items():
            self.times.setdefault(part, Histogram()).merge(data)

    def merge(self, other: StepFigures) -> None:
        """Add the figures of another step."""
        self.count += other.count
        self.sent += other.sent
        self.received += other.received
        self.errors.update(other.errors)
        for part, histogram in other.times.items():
            self.times.setdefault(part, Histogram()).merge(histogram.data())


class LoadFigures:
    """All measurements so far; ``requests`` is the total of all steps."""

    def __init__(self) -> None:
        self.steps: dict[Key, StepFigures] = {}
        self.requests = StepFigures()
        self.seconds = 0.0

    def add(self, rows: Iterable[LoadRow]) -> None:
        """Add rows of one second or of several."""
        for row in rows:
            self.steps.setdefault((row.workflow, row.step), StepFigures()).add(row)
            if row.step:
                self.requests.add(row)

    def in_order(self, order: Iterable[Key]) -> list[tuple[Key, StepFigures]]:
        """The steps in this order; other steps are last."""
        places = {key: position for position, key in enumerate(order)}
        keys = sorted(self.steps, key=lambda key: places.get(key, len(places)))
        return [(key, self.steps[key]) for key in keys]
