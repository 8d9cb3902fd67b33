"""Repeats tests many times in one run, to measure how often they pass."""

from __future__ import annotations

import time

from msgspec.structs import replace

from wolfbane.events.run_events import TestRepeated
from wolfbane.execution.retries import Retries
from wolfbane.model import Outcome, Repeated, Result, Test
from wolfbane.setup.run_request import RunRequest
from wolfbane.workspace.settings import Workspace

KEPT = 10
"""Failures of a test that are stored completely."""


class Repeats:
    """The repetitions of every test of a run, like the attempts in :class:`Retries`."""

    event = TestRepeated

    def __init__(self, request: RunRequest) -> None:
        self.fresh = request.repeat_in == "fresh"
        self.at_once = not self.fresh
        """In the same worker, a test runs again before the worker loads another file."""
        self._most = request.repeat
        self._first_only = request.stop_after is not None
        self._end = time.monotonic() + (request.repeat_for or float("inf"))
        self._seconds: dict[str, list[float]] = {}
        self._passed: dict[str, int] = {}
        self._bad: dict[str, list[Result]] = {}
        self._newest: dict[str, Result] = {}

    def again(self, test: Test, result: Result) -> Result | None:
        """The number of the repetition that ended, if the test must run again; otherwise None."""
        self._note(result)
        count = len(self._seconds[test.address])
        failed = self._first_only and test.address in self._bad
        settled = result.outcome in (Outcome.BLOCKED, Outcome.SKIPPED, Outcome.TODO)
        enough = self._most is not None and count >= self._most
        if failed or settled or enough or time.monotonic() >= self._end:
            return None
        return replace(result, attempt=count)

    def lost(self, test: Test, result: Result) -> Result:
        """A repetition that ended with its machine. It does not count."""
        return replace(result, attempt=len(self._seconds.get(test.address, ())) + 1)

    def wait(self, result: Result) -> None:
        """A test could not run. It runs with the next repetition of the test that it needs."""
        self._note(result)

    def whole(self, result: Result) -> Result:
        """The result of all repetitions: the first failure, or the last result if none failed."""
        address = result.address
        times, bad = self._seconds.pop(address), self._bad.pop(address, [])
        passed = self._passed.pop(address, 0)
        self._newest.pop(address, None)
        if not (passed or bad):  # it is skipped, or blocked: it never ran
            return result
        from statistics import median  # brings two kinds of numbers that no other run needs

        repeated = Repeated(
            runs=len(times),
            passed=passed,
            median=median(times),
            fastest=min(times),
            slowest=max(times),
        )
        shown, *others = bad or [result]
        return replace(shown, earlier=tuple(others), attempt=1, repeated=repeated)

    def given_up(self, test: Test) -> Result:
        """The result of a test that should have run once more but did not."""
        return self.whole(self._newest[test.address])

    def _note(self, result: Result) -> None:
        times = self._seconds.setdefault(result.address, [])
        times.append(result.seconds)
        self._newest[result.address] = result
        if result.outcome in (Outcome.PASSED, Outcome.FLAKY):
            self._passed[result.address] = self._passed.get(result.address, 0) + 1
        elif result.outcome.is_bad:
            bad = self._bad.setdefault(result.address, [])
            if len(bad) < KEPT:
                bad.append(replace(result, attempt=len(times), earlier=()))


def attempts_of(workspace: Workspace, request: RunRequest) -> Retries | Repeats:
    """How tests of the run are repeated."""
    if request.repeats:
        return Repeats(request)
    at_once = request.retry_when == "at-once"
    return Retries(workspace, request.retries, at_once=at_once)
