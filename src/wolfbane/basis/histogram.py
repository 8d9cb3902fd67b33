"""Mergeable histograms of durations with three significant digits."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from wolfbane.model import HistogramData

_DIGITS = 11
"""Significant bits of a value: an error of at most 1 in 2,048."""
_HALF = 1 << (_DIGITS - 1)
_LARGEST_SHIFT = 25
"""Up to 2 ** 36 microseconds, which is 19 hours; larger values count as this value."""
_SIZE = (_LARGEST_SHIFT + 2) * _HALF


class Histogram:
    """Durations in microseconds, counted in buckets whose width grows with their size.

    The layout is that of a high dynamic range histogram: values up to 2,048 are exact, larger ones
    are right to 1 in 2,048. All histograms have the same buckets, so they merge by addition.
    """

    def __init__(self) -> None:
        self._counts: NDArray[np.int64] = np.zeros(_SIZE, dtype=np.int64)
        self.count = 0
        self.total = 0
        self.largest = 0

    @classmethod
    def of(cls, seconds: Sequence[float]) -> Histogram:
        """The histogram of durations in seconds."""
        made = cls()
        made.add(seconds)
        return made

    def add(self, seconds: Sequence[float]) -> None:
        """Count durations in seconds."""
        if not seconds:
            return
        values = np.maximum(np.rint(np.asarray(seconds) * 1e6), 0).astype(np.int64)
        np.add.at(self._counts, _bucket(values), 1)
        self.count += len(values)
        self.total += int(values.sum())
        self.largest = max(self.largest, int(values.max()))

    def merge(self, data: HistogramData) -> None:
        """Add the counts of another histogram."""
        raw = zlib.decompress(base64.b64decode(data.counts))
        numbers = np.frombuffer(raw, dtype="<u4")
        half = len(numbers) // 2
        self._counts[np.cumsum(numbers[:half])] += numbers[half:]
        self.count += data.count
        self.total += data.total
        self.largest = max(self.largest, data.largest)

    def data(self) -> HistogramData:
        """The histogram in the form for sending and storing."""
        used = np.flatnonzero(self._counts)
        distances = np.diff(used, prepend=0)
        raw = np.concatenate([distances, self._counts[used]]).astype("<u4").tobytes()
        text = base64.b64encode(zlib.compress(raw, 1)).decode()
        return HistogramData(count=self.count, total=self.total, largest=self.largest, counts=text)

    @property
    def mean(self) -> float:
        """The mean in seconds; 0.0 without values."""
        if self.count:
            return self.total / self.count / 1e6
        return 0.0

    def percentile(self, percent: float) -> float:
        """The duration in seconds that this percentage of all values does not exceed; 0.0 without
        values.
        """
        if not self.count:
            return 0.0
        wanted = max(int(np.ceil(self.count * percent / 100)), 1)
        if wanted >= self.count:
            return self.largest / 1e6
        bucket = int(np.searchsorted(np.cumsum(self._counts), wanted))
        return float(min(_middle(bucket), self.largest)) / 1e6

    def curve(self, percents: Sequence[float]) -> list[float]:
        """The durations in seconds at several percentages."""
        return [self.percentile(percent) for percent in percents]


def _bucket(values: NDArray[np.int64]) -> NDArray[np.int64]:
    _, bits = np.frexp(values.astype(np.float64))
    shift = np.clip(bits - _DIGITS, 0, _LARGEST_SHIFT).astype(np.int64)
    buckets: NDArray[np.int64] = np.minimum(shift * _HALF + (values >> shift), _SIZE - 1)
    return buckets


def _middle(bucket: int) -> float:
    """The middle of a bucket, in microseconds."""
    if bucket < 2 * _HALF:
        return bucket
    shift = bucket // _HALF - 1
    return ((bucket - shift * _HALF) << shift) + ((1 << shift) - 1) / 2
