"""Compares two load tests: finds the steps that became significantly slower."""

from __future__ import annotations

import math
from collections.abc import Sequence
from statistics import median

import msgspec

from wolfbane.basis.histogram import Histogram
from wolfbane.load.measurements import Measurements
from wolfbane.results.record import LoadRecord

LEAST = 0.1
"""Minimum relative size of a change, however certain the change is."""
SURE = 3.0
"""Minimum size of a change in standard errors of the medians."""
_SPREAD = 1.4826 * 1.2533
"""Factor from the median absolute deviation of a normal distribution to the error of its median."""


class StepChange(msgspec.Struct, frozen=True):
    """A step in both load tests: its times, in seconds.

    ``noise`` is the possible error of its median.
    """

    workflow: str
    step: str
    before: Histogram
    after: Histogram
    noise: float

    @property
    def slower(self) -> bool:
        """Whether its median increased significantly."""
        return self._grew(self.before.percentile(50), self.after.percentile(50))

    @property
    def faster(self) -> bool:
        """Whether its median decreased significantly."""
        return self._grew(self.after.percentile(50), self.before.percentile(50))

    def _grew(self, low: float, high: float) -> bool:
        return high - low > max(LEAST * low, SURE * self.noise)


def compare_loads(before: LoadRecord, after: LoadRecord) -> list[StepChange]:
    """All steps and workflows that are in both, in the order of the later one."""
    old, new = Measurements(before), Measurements(after)
    medians = [_medians(load) for load in (before, after)]
    return [
        StepChange(
            *key,
            old.figures.steps[key].whole,
            figures.whole,
            math.hypot(*(_error(each.get(key, [])) for each in medians)),
        )
        for key, figures in new.steps
        if key in old.figures.steps
    ]


def _medians(load: LoadRecord) -> dict[tuple[str, str], list[float]]:
    """The median of each step in each second."""
    medians: dict[tuple[str, str], list[float]] = {}
    for second in load.seconds:
        merged: dict[tuple[str, str], Histogram] = {}
        for row in second.rows:
            if "whole" in row.times:
                key = (row.workflow, row.step)
                merged.setdefault(key, Histogram()).merge(row.times["whole"])
        for key, histogram in merged.items():
            medians.setdefault(key, []).append(histogram.percentile(50))
    return medians


def _error(medians: Sequence[float]) -> float:
    """The standard error of the median over the seconds; the maximum if there are only a few."""
    if len(medians) < 2:
        if medians:
            return medians[0] / SURE
        return 0.0
    middle = median(medians)
    return _SPREAD * median(abs(each - middle) for each in medians) / math.sqrt(len(medians))
