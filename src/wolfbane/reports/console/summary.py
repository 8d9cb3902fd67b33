"""The end of a run's report: a table by suite, the slowest tests, and the last line."""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence

from rich.text import Text

from wolfbane.events.run_events import Covered, RunFinished
from wolfbane.model import Outcome, Part, Result
from wolfbane.reports.console.layout import NARROWEST, Column, facts, wrapped
from wolfbane.reports.console.style import ORDER, STYLES, counted
from wolfbane.reports.text import clock, in_line, many, repeating_failed, visible
from wolfbane.reports.verdict import limits_words, of_tests, sentence

SLOW = 0.1
SHOWN_SLOW = 3
SHOWN_MISSING = 6
SHOWN_FILES = 3


def summary_table(
    results: Sequence[Result], suites: Iterable[str], apart: Container[str] = ()
) -> list[Column]:
    """Suites, in this order, by outcomes; unused outcomes have no column.

    Tests with addresses in ``apart`` are quarantined: they have a separate column.
    """
    ran = {result.suite for result in results}
    by_suite = {suite: Counter[Outcome]() for suite in suites if suite in ran}
    seconds: Counter[str] = Counter()
    kept: Counter[str] = Counter()
    parts: Counter[str] = Counter()
    for result in results:
        by_suite.setdefault(result.suite, Counter())
        if result.address in apart:
            kept[result.suite] += 1
        else:
            by_suite[result.suite][result.outcome] += 1
        seconds[result.suite] += result.seconds  # type: ignore[assignment]
        parts[result.suite] += len(result.parts)
    whole = sum(by_suite.values(), Counter[Outcome]())
    several = len(by_suite) > 1
    tests = [str(counts.total() + kept[suite]) for suite, counts in by_suite.items()]
    columns = [
        Column("suite", list(by_suite), footer="total" if several else None),
        Column("tests", tests, right=True, footer=str(len(results)) if several else None),
    ]
    for outcome in (each for each in ORDER if whole[each]):
        numbers = {suite: counts[outcome] for suite, counts in by_suite.items()}
        rank = 0
        if not outcome.is_bad:
            rank = _RANKS.get(outcome, 1)
        columns.append(_numbers(str(outcome), numbers, STYLES[outcome], rank=rank, several=several))
    if parts.total():
        numbers = {suite: parts[suite] for suite in by_suite}
        columns.append(_numbers("parts", numbers, "", rank=5, several=several))
    if kept:
        numbers = {suite: kept[suite] for suite in by_suite}
        columns.append(_numbers("quarantined", numbers, "", rank=2, several=several))
    times = [clock(seconds[suite]) for suite in by_suite]
    footer = None
    if several:
        footer = clock(sum(seconds.values()))
    return [*columns, Column("time", times, 4, right=True, footer=footer)]


_RANKS = {Outcome.SKIPPED: 3, Outcome.TODO: 3}
"""Outcomes that a narrow table drops first."""


def _numbers(
    title: str, by_suite: Mapping[str, int], style: str, rank: int, *, several: bool
) -> Column:
    """A column of counts, with its sum below if there are several suites."""
    cells = [Text(str(n or "-"), style=style if n else "dim") for n in by_suite.values()]
    footer = None
    if several:
        footer = Text(str(sum(by_suite.values())), style=style)
    return Column(title, cells, rank, right=True, footer=footer)


def slowest(results: Sequence[Result], width: int) -> Text | None:
    """The slowest tests, if any test is slow enough to matter."""
    slow = sorted((r for r in results if r.seconds >= SLOW), key=lambda r: -r.seconds)[:SHOWN_SLOW]
    if not slow:
        return None
    times = max(len(clock(result.seconds)) for result in slow)
    room = max(width - times - len("slowest") - 4, NARROWEST)
    lines = [
        f"{time:>{times}}  {line.plain.rstrip()}"
        for result in slow
        for number, line in enumerate(wrapped(in_line(result.address), room))
        for time in ["" if number else clock(result.seconds)]
    ]
    return facts([("slowest", "\n".join(lines))], width)


def came_up_line(chosen: int, came_up: Mapping[str, int]) -> Text:
    """The reason for more results than selected tests: tests may create others while they run."""
    more = sum(came_up.values())
    files = ", ".join(list(came_up)[:SHOWN_FILES])
    others = len(came_up) - SHOWN_FILES
    if others > 0:
        files += f" and {many(others, 'other file')}"
    message = f"{many(chosen, 'test')} {'was' if chosen == 1 else 'were'} selected; {more:,} more"
    return Text(f"{message} appeared during the run, in {visible(files)}", style="dim")


def coverage_lines(covered: Covered, width: int) -> Text:
    """The number of called operations of an API, the uncalled ones, and the returned statuses."""
    called = {name for name, _, _, _ in covered.exercised}
    whole = len(called) + len(covered.missing)
    statuses = sorted({status for _, status, _, _ in covered.exercised})
    line = Text(f"{visible(covered.source)}: {len(called)} of ")
    line.append(f"{many(whole, 'operation')}, statuses {', '.join(statuses)}")
    if covered.missing:
        more = len(covered.missing) - SHOWN_MISSING
        shown = ", ".join(covered.missing[:SHOWN_MISSING])
        rest = ""
        if more > 0:
            rest = f" and {more} more"
        line.append(f"; not called: {visible(shown)}{rest}", style="khaki1")
    return facts([("covered", line)], width)


def handled_lines(results: Iterable[Result]) -> Iterator[Text]:
    """A line for each failure that a document handled, so that its test passed."""
    for result in results:
        if result.outcome in (Outcome.PASSED, Outcome.FLAKY):
            for part in _handled(result.parts):
                line = Text.assemble(("handled  ", "bold khaki1"), in_line(result.address))
                step = part.name.partition(":")[0]
                first = part.message.partition("\n")[0]
                yield line.append(f"  step {in_line(step)} {in_line(first)}", style="dim")


def _handled(parts: Iterable[Part]) -> Iterator[Part]:
    for part in parts:
        if part.outcome.is_bad:
            yield part
        elif part.outcome is Outcome.PASSED:  # a retried step is skipped
            yield from _handled(part.parts)


def closing_line(event: RunFinished, run: str) -> Text:
    """Everything in one line: the verdict, counts, time, and the reason for the exit code."""
    counts = Counter({Outcome(name): count for name, count in event.counts.items()})
    limits = {Outcome(name): count for name, count in event.limits.items()}
    apart = Counter({Outcome(name): count for name, count in event.quarantined.items()})
    good = event.exit_code == 0
    verdict = sentence(counts, event if not limits else of_tests(event), counts.total())
    line = Text()
    line.append(verdict, style="bold dark_cyan" if good else "bold indian_red1")
    if set(counts) - {Outcome.PASSED}:
        details = [counted(counts)]
    else:
        details = []
    if apart:
        details.append(Text(f"{apart.total()} quarantined (").append_text(counted(apart)))
        details[-1].append(")")
    if limits:
        missed = any(outcome.is_bad for outcome in limits)
        details.append(Text(limits_words(limits), style="bold indian_red1" if missed else ""))
    if event.unrun:
        details.append(Text(f"{many(event.unrun, 'test')} not run", style="bold khaki1"))
    if details:
        mark = ", "
        if set(counts) - {Outcome.PASSED}:
            mark = ": "
        line.append(mark).append_text(Text(", ").join(details))
    line.append(f"; {clock(event.seconds)}")
    if event.reason and event.reason.lower() not in verdict.lower():
        line.append("; ").append(event.reason, style="khaki1")
    return line.append(f"; exit {event.exit_code}; run {run}", style="dim")


def again_line(run: str, pointed: Sequence[str]) -> Text:
    """The command that runs the failed tests of a run again."""
    command = repeating_failed(run, pointed)
    return Text.assemble(("run the failed tests again: ", "dim"), command)
