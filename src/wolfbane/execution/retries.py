"""Decides which failed tests are retried, and combines their attempts into one result."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from msgspec.structs import replace

from wolfbane.events.run_events import TestRetried
from wolfbane.model import Outcome, Result, Test
from wolfbane.selection import Matcher, parse
from wolfbane.workspace.settings import Workspace


class Retries:
    """The attempts of every test of a run. ``given`` overrides the settings.

    With ``at_once``, tests run again before all others.
    """

    event = TestRetried
    fresh = True

    def __init__(self, workspace: Workspace, given: int | None, *, at_once: bool = False) -> None:
        self.at_once = at_once
        self._workspace, self._given = workspace, given
        self._rules: list[tuple[Callable[[Test], bool], int]] = [
            (Matcher(parse(rule.match)), rule.times) for rule in workspace.settings.retry
        ]
        self._earlier: dict[str, list[Result]] = {}
        self._times: Counter[str] = Counter()
        self._waiting: dict[str, Result] = {}
        self._innocent: Counter[str] = Counter()

    def allowed(self, test: Test) -> int:
        """The maximum retries of a test: the highest number of its suite and the rules."""
        if self._given is not None:
            return self._given
        times = [times for matches, times in self._rules if matches(test)]
        return max([*times, self._workspace.suite(test.suite).retries])

    def again(self, test: Test, result: Result) -> Result | None:
        """The number of the attempt, if the test must run again after it; otherwise None."""
        address = test.address
        if self._waiting:
            self._waiting.pop(address, None)
        if not result.outcome.is_bad or self._times[address] >= self.allowed(test):
            return None
        self._times[address] += 1
        earlier = self._earlier.setdefault(address, [])
        for attempt in (*result.earlier, result):
            earlier.append(replace(attempt, attempt=len(earlier) + 1, earlier=()))
        return earlier[-1]

    def lost(self, test: Test, result: Result) -> Result:
        """The number of the attempt that ended with its machine. The test did not cause this."""
        earlier = self._earlier.setdefault(test.address, [])
        earlier.append(replace(result, attempt=len(earlier) + 1))
        self._innocent[test.address] += 1
        return earlier[-1]

    def wait(self, result: Result) -> None:
        """Remember a test that could not run, and that runs with the next attempt of a test it
        needs.
        """
        self._waiting[result.address] = result

    def whole(self, result: Result) -> Result:
        """The result of all attempts, with this one as the last: flaky if only this one passed."""
        before = self._earlier.pop(result.address, [])
        if not before:
            return result
        inner = (replace(each, attempt=each.attempt + len(before)) for each in result.earlier)
        earlier = (*before, *inner)
        failed_before = len(before) > self._innocent.pop(result.address, 0)
        flaky = result.outcome is Outcome.PASSED and failed_before
        if flaky:
            outcome = Outcome.FLAKY
        else:
            outcome = result.outcome
        return replace(result, outcome=outcome, attempt=len(earlier) + 1, earlier=earlier)

    def given_up(self, test: Test) -> Result:
        """The result of a test that should have run again but did not."""
        if test.address not in self._earlier:
            return self._waiting.pop(test.address)
        *earlier, last = self._earlier.pop(test.address)
        return replace(last, earlier=tuple(earlier))
