"""The results of a load test: one for each workflow, and one for each limit."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec
from msgspec.structs import replace

from wolfbane.kinds.suite import Suite
from wolfbane.load.figures import LoadFigures
from wolfbane.load.limits import Limit
from wolfbane.model import LIMITS, Outcome, Result, Test
from wolfbane.results.result_builder import ResultBuilder
from wolfbane.workers.load_messages import LoadedMessage, TestUnderLoad
from wolfbane.workers.message_data import Ending, ending


def together(ends: Iterable[LoadedMessage]) -> dict[str, TestUnderLoad]:
    """The outcome of each test in all processes, by address. One failure is sufficient to fail."""
    by_test: dict[str, TestUnderLoad] = {}
    for test in (test for end in ends for test in end.tests):
        known = by_test.get(test.address)
        if known is None:
            by_test[test.address] = test
            continue
        if test.failed and not known.failed:
            shown = test
        else:
            shown = known
        by_test[test.address] = replace(
            shown,
            count=known.count + test.count,
            failed=known.failed + test.failed,
            seconds=known.seconds + test.seconds,
        )
    return by_test


def test_results(
    builder: ResultBuilder,
    tests: Mapping[str, Test],
    ended: Mapping[str, TestUnderLoad],
    limits: Sequence[Limit],
    figures: LoadFigures,
) -> Iterator[Result]:
    """The result of each test that ran. If limits on errors are met, its failures do not count."""
    of_errors = [limit for limit in limits if limit.figure == "errors"]
    decided = bool(of_errors) and all(limit.holds(figures) for limit in of_errors)
    for address, end in ended.items():
        message = end.message
        outcome = end.outcome
        if end.failed:
            message = f"{end.failed:,} of {end.count:,} runs failed: {message}"
        if end.failed and decided:
            outcome = "passed"
        mean = round(end.seconds / end.count, 6)
        built = msgspec.convert({"outcome": outcome, "message": message, "seconds": mean}, Ending)
        yield builder.make(tests[address], replace(built, parts=end.parts), "")


def limit_results(
    builder: ResultBuilder, suite: Suite, limits: Sequence[Limit], figures: LoadFigures
) -> Iterator[Result]:
    """The result of each limit."""
    for limit in limits:
        test = Test(suite=suite.name, kind=suite.kind, path=LIMITS, name=limit.text, exact=True)
        met = limit.holds(figures)
        message = ""
        if not met:
            message = f"measured: {limit.shown(figures)}"
        yield builder.make(test, ending(Outcome.PASSED if met else Outcome.FAILED, message), "")
