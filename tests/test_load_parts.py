"""What a load is made of, apart from the program: histograms, arrivals, users, limits."""

from __future__ import annotations

import bisect
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wolfbane.basis.histogram import Histogram
from wolfbane.basis.units import rate
from wolfbane.errors import ExpressionError
from wolfbane.kinds.workflow.load.shape import LoadShare, arrivals, starts_of, value_at
from wolfbane.load.comparison import StepChange
from wolfbane.load.limits import read_limit

TIMES = st.lists(st.floats(0, 4000), min_size=1, max_size=200)


@given(TIMES, TIMES, st.floats(1, 100))
def test_histograms_are_right_to_three_digits_and_merge(some, others, percent):
    merged, both = Histogram.of(some), [*some, *others]
    merged.merge(Histogram.of(others).data())
    assert merged.count == len(both)
    assert merged.largest == round(max(both) * 1e6)
    result = merged.percentile(percent)
    folder = min(max(-int(-len(both) * percent // 100) - 1, 0), len(both) - 1)
    right = sorted(both)[folder]
    near = sorted(both)[max(folder - 1, 0)]
    assert near * 0.999 - 2e-6 <= result <= right * 1.001 + 2e-6
    assert merged.mean == pytest.approx(sum(both) / len(both), abs=2e-6)


@pytest.mark.parametrize(
    ("before", "after", "noise", "change"),
    [
        (10, 12, 0.1, "slower"),
        (12, 10, 0.1, "faster"),
        (10, 10.9, 0.0, ""),
        (10, 12, 0.7, ""),
    ],
)
def test_a_step_got_slower_beyond_noise_or_not(before, after, noise, change):
    times = [Histogram.of([median / 1000] * 9) for median in (before, after)]
    step = StepChange("flows#w", "s", *times, noise / 1000)
    assert (step.slower, step.faster) == (change == "slower", change == "faster")


POINTS = st.lists(st.tuples(st.floats(0.1, 5), st.floats(0, 40)), min_size=1, max_size=4).map(
    lambda steps: [(0.0, steps[0][1]), *_summed(steps)]
)


def _summed(steps):
    now = 0.0
    for length, high in steps:
        now += length
        yield now, high


@given(POINTS, st.integers(1, 4), st.integers(0, 9))
def test_even_arrivals_are_dealt_out_among_processes(points, count, seed):
    until = points[-1][0]
    whole = list(arrivals(points, LoadShare(0, 1), seed, evenly=True, until=until))
    parts = [
        list(arrivals(points, LoadShare(n, count), seed, evenly=True, until=until))
        for n in range(count)
    ]
    assert sorted(time for part in parts for time in part) == pytest.approx(whole)
    area = sum((b[0] - a[0]) * (a[1] + b[1]) / 2 for a, b in pairwise(points))
    assert abs(len(whole) - area) <= 0.5 + 1e-6
    assert whole == sorted(whole) and all(0 <= when <= until for when in whole)
    middle = until / 2
    before = bisect.bisect(whole, middle)
    stretch = [p for p in points if p[0] < middle] + [(middle, value_at(points, middle))]
    half = sum((b[0] - a[0]) * (a[1] + b[1]) / 2 for a, b in pairwise(stretch))
    assert abs(before - half) <= 1.5


def test_random_arrivals_have_the_rate_and_are_not_even():
    times = list(arrivals([(0.0, 100.0)], LoadShare(0, 1), 5, evenly=False, until=100.0))
    gaps = [b - a for a, b in pairwise(times)]
    mean = sum(gaps) / len(gaps)
    spread = sum((gap - mean) ** 2 for gap in gaps) / len(gaps)
    assert mean == pytest.approx(0.01, rel=0.05)
    assert spread == pytest.approx(mean**2, rel=0.1), "the gaps of a Poisson process"


@given(POINTS, st.integers(1, 40))
def test_users_start_when_the_points_ask_for_them(points, most):
    starts = starts_of(points, LoadShare(0, 1), most)
    assert starts == sorted(starts)
    assert len(starts) <= most
    for user, start in enumerate(starts):
        assert value_at(points, start) >= user - 1e-6


@given(
    st.sampled_from(["p50", "p95", "p99.9", "median", "mean", "max"]),
    st.sampled_from(["<", "<=", ">", ">="]),
    st.integers(1, 999),
    st.sampled_from(["ms", "s", "m"]),
    st.sampled_from(["", "book: ", "w.book : "]),
)
def test_limits_are_read_as_they_are_written(figure, sign, value, unit, step):
    limit = read_limit(f" {step}{figure}{sign} {value}{unit} ")
    factor = {"ms": 0.001, "s": 1, "m": 60}[unit]
    assert (limit.figure, limit.sign) == (figure, sign)
    assert limit.value == pytest.approx(value * factor)
    assert limit.step == step.strip(" :")


@given(st.text(max_size=30))
def test_any_text_is_a_limit_or_an_error_that_points_into_it(text):
    try:
        read_limit(text)
    except ExpressionError as error:
        assert 0 <= error.position <= len(text)


@pytest.mark.parametrize(
    ("text", "result"), [("40/s", 40), ("0.5/s", 0.5), ("90/m", 1.5), ("0/s", 0)]
)
def test_rates(text, result):
    assert rate(text) == result
