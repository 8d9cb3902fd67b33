"""The verdict on a run in one sentence."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from msgspec.structs import replace

from wolfbane.events.run_events import RunFinished
from wolfbane.model import LIMITS, Outcome
from wolfbane.reports.text import many
from wolfbane.results.record import Record

CUT_OFF = RunFinished(0.0, 130, {}, reason="interrupted: the record of the run has no end")


def sentence_of(record: Record) -> str:
    """The verdict on a recorded run, without its quarantined tests."""
    if record.started:
        quarantined = record.started.quarantined
    else:
        quarantined = {}
    counted = [r for r in record.results if r.address not in quarantined]
    counts = Counter(r.outcome for r in counted if r.path != LIMITS)
    limits = Counter(r.outcome for r in counted if r.path == LIMITS)
    finished = record.finished or CUT_OFF
    verdict = sentence(counts, of_tests(finished) if limits else finished, counts.total())
    if limits:
        return f"{verdict}, {limits_words(limits)}"
    return verdict


def of_tests(event: RunFinished) -> RunFinished:
    """The end of a load test without its limits: the line shows violated limits separately."""
    if event.exit_code == 1:
        return replace(event, exit_code=0)
    return event


def limits_words(limits: Mapping[Outcome, int]) -> str:
    """The number of met limits of a load test."""
    missed = sum(count for outcome, count in limits.items() if outcome.is_bad)
    whole = many(sum(limits.values()), "limit")
    if missed:
        return f"{missed} of {whole} missed"
    return f"{whole} met"


def sentence(counts: Mapping[Outcome, int], finished: RunFinished, tests: int) -> str:
    """The verdict on a run. ``counts`` and ``tests`` are without quarantined ones."""
    if any(outcome.is_bad and count for outcome, count in counts.items()):
        bad = sum(count for outcome, count in counts.items() if outcome.is_failure)
        message = f"{bad:,} of {many(tests, 'test')} failed"
        if finished.exit_code == 130:
            return f"{message}; interrupted"
        return message
    if finished.exit_code == 130:
        return finished.reason[:1].upper() + finished.reason[1:]
    if finished.exit_code == 3:
        return "Nothing was run"
    if finished.exit_code:
        blocked = counts.get(Outcome.BLOCKED, 0)
        if blocked:
            return f"{blocked:,} of {many(tests, 'test')} blocked"
        return "The run failed"
    ran = tests - counts.get(Outcome.SKIPPED, 0) - counts.get(Outcome.TODO, 0)
    flaky = counts.get(Outcome.FLAKY, 0)
    if not ran:
        return "Only quarantined tests were run"
    message = "1 test passed"
    if ran != 1:
        message = f"All {ran:,} tests passed"
    if flaky:
        return f"{message}, {flaky:,} of them flaky"
    return message
