"""The timeline of a run's workers: what each worker did at which time."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from wolfbane.model import Outcome, Result, variant

COLUMNS = 1000
"""The finest division of a timeline: everything in one column is one bar."""
_RANK = {
    outcome: rank
    for rank, outcome in enumerate(
        [
            Outcome.SKIPPED,
            Outcome.TODO,
            Outcome.PASSED,
            Outcome.FLAKY,
            Outcome.BLOCKED,
            Outcome.FAILED,
            Outcome.ERRORED,
            Outcome.TIMED_OUT,
            Outcome.CRASHED,
        ]
    )
}


class Bar(msgspec.Struct):
    """Consecutive tests of one file in one worker. ``begin`` and ``end`` are in seconds."""

    path: str
    begin: float
    end: float
    worst: Outcome
    tests: int = 1
    files: int = 1

    @property
    def seconds(self) -> float:
        """The duration of the run."""
        return self.end - self.begin


class Lane(msgspec.Struct):
    """The bars of one worker. ``worker`` is its number, preceded by the name of its machine."""

    worker: str
    bars: list[Bar]

    @property
    def tests(self) -> int:
        """The number of attempts."""
        return sum(bar.tests for bar in self.bars)

    @property
    def busy(self) -> float:
        """The number of seconds in which it ran tests."""
        return sum(bar.seconds for bar in self.bars)


def lanes(results: Sequence[Result], seconds: float) -> list[Lane]:
    """Every worker with its bars, including attempts that were retried."""
    ran: dict[tuple[str, int], list[Result]] = {}
    for result in results:
        for attempt in (*result.earlier, result):
            if attempt.worker:
                ran.setdefault((attempt.machine, attempt.worker), []).append(attempt)
    shortest = seconds / COLUMNS
    return [
        Lane(f"{machine} {worker}".strip(), _bars(ran[machine, worker], shortest))
        for machine, worker in sorted(ran)
    ]


def _bars(results: Sequence[Result], shortest: float) -> list[Bar]:
    bars: list[Bar] = []
    for result in sorted(results, key=lambda r: r.began):
        path = variant(result.path, result.browser, result.target)
        end = result.began + result.seconds
        last = None
        if bars:
            last = bars[-1]
        tiny = last and max(result.seconds, last.seconds, result.began - last.begin) < shortest
        if last and (last.path == path or tiny):
            last.files += last.path != path
            last.end = max(last.end, end)
            last.tests += 1
            last.worst = max(last.worst, result.outcome, key=lambda outcome: _RANK[outcome])
        else:
            bars.append(Bar(path=path, begin=result.began, end=end, worst=result.outcome))
    return bars
