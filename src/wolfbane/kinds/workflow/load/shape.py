"""Computes the number of users, or the start times of workflows, as functions of time."""

from __future__ import annotations

import math
import random
from collections.abc import Iterator, Sequence

import msgspec

Points = Sequence[tuple[float, float]]
"""Seconds and a value, which changes evenly between points and stays constant after the last."""


class LoadShare(msgspec.Struct, frozen=True):
    """One process's part of the load: the ``number``-th of ``count``, from 0."""

    number: int
    count: int

    def of(self, total: int) -> int:
        """How many of these items belong to this process."""
        return (total - self.number + self.count - 1) // self.count


class LoadOrder(msgspec.Struct, frozen=True, kw_only=True):
    """The task of a process: times in seconds, ``start_at`` as ``time.time``.

    ``points`` are users over time, or rates per second if the load is ``open``; ``users`` is the
    maximum of all processes in total. ``loops`` is how often a user runs everything, 0 for no
    limit; after ``until`` nothing more starts.
    """

    points: list[tuple[float, float]]
    users: int
    share: LoadShare
    seed: int
    start_at: float
    limit: float
    open: bool = False
    evenly: bool = False
    loops: int = 0
    until: float | None = None
    pause: tuple[float, float] = (0.0, 0.0)
    shuffled: bool = False
    samples: str = "all"
    contract: float = 1.0
    allowed: tuple[str, ...] = ()
    weights: dict[str, float] = {}
    rows: str = ""


def value_at(points: Points, when: float) -> float:
    """The value at a time; for two points at the same time, that of the later point."""
    before = points[0]
    for point in points:
        if point[0] > when:
            (start, low), (end, high) = before, point
            return low + (high - low) * (when - start) / (end - start)
        before = point
    return before[1]


def starts_of(points: Points, share: LoadShare, most: int) -> list[float]:
    """The start of each user of a share: when the points require more users than there are.

    Users that the points never require are left out.
    """
    starts = []
    for user in range(share.number, most, share.count):
        if (when := first_above(points, float(user))) is not None:
            starts.append(when)
    return starts


def first_above(points: Points, level: float) -> float | None:
    """The time when a value first rises above a level; None if it never does."""
    start, low = points[0]
    if low > level:
        return start
    for end, high in points[1:]:
        if high > level:
            return start + (end - start) * max(level - low, 0.0) / (high - low)
        start, low = end, high
    return None


def arrivals(
    points: Points, share: LoadShare, seed: int, *, evenly: bool, until: float
) -> Iterator[float]:
    """When workflows are due in one process, in seconds, for rates in workflows per second.

    The arrivals of all processes in total are a Poisson process of that rate, because each process
    has an independent one for its part; ``evenly`` spaced ones are distributed in turn.
    """
    chance = random.Random(seed)
    if evenly:
        due = share.number + 0.5
    else:
        due = chance.expovariate(1.0) * share.count
    for start, end, low, high in _stretches(points, until):
        passed = _area(start, end, low, high=high)
        while due < passed:
            yield start + _time_of(due, low, high, length=end - start)
            due += share.count if evenly else chance.expovariate(1.0) * share.count
        due -= passed


def _stretches(points: Points, until: float) -> Iterator[tuple[float, float, float, float]]:
    """Intervals in which the rate changes evenly: start, end, and the rate at both."""
    start, low = points[0]
    for point in points[1:]:
        end, high = point if point[0] <= until else (until, value_at(points, until))
        if end > start:
            yield start, end, low, high
        start, low = end, high
    if start < until:
        yield start, until, low, low


def _area(start: float, end: float, low: float, high: float) -> float:
    return (end - start) * (low + high) / 2


def _time_of(area: float, low: float, high: float, length: float) -> float:
    """The position in an interval that reaches this amount: a root of a quadratic equation."""
    slope = (high - low) / length
    if abs(slope) * length < 1e-9 * max(low, high, 1e-9):
        return area / low
    return (math.sqrt(low * low + 2 * slope * area) - low) / slope
