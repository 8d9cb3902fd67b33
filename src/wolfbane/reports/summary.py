"""The end of a run's report: a table by suite, the slowest tests, the closing line."""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Iterable, Sequence

from rich.box import SIMPLE_HEAD
from rich.table import Table
from rich.text import Text

from wolfbane.events import Covered, RunFinished
from wolfbane.model import Outcome, Result
from wolfbane.reports.style import ORDER, STYLES, counted
from wolfbane.reports.text import clock, in_line, many, visible

SLOW = 0.1
SHOWN_SLOW = 3
SHOWN_MISSING = 6
MANY_OUTCOMES = 5


def summary_table(
    results: Sequence[Result], suites: Iterable[str], apart: Container[str] = ()
) -> Table:
    """Suites, in this order, by outcomes; outcomes that never came have no column.

    Tests with addresses in ``apart`` are quarantined: they have a column of their own, as held.
    """
    ran = {result.suite for result in results}
    by_suite = {suite: Counter[Outcome]() for suite in suites if suite in ran}
    seconds: Counter[str] = Counter()
    held: Counter[str] = Counter()
    for result in results:
        by_suite.setdefault(result.suite, Counter())
        if result.address in apart:
            held[result.suite] += 1
        else:
            by_suite[result.suite][result.outcome] += 1
        seconds[result.suite] += result.seconds  # type: ignore[assignment]
    whole = sum(by_suite.values(), Counter[Outcome]())
    present = [outcome for outcome in ORDER if whole[outcome]]
    gap = 2 if len(present) < MANY_OUTCOMES else 0
    table = Table(
        box=SIMPLE_HEAD, show_footer=len(by_suite) > 1, padding=(0, gap, 0, 0), pad_edge=False
    )
    table.add_column("suite", footer="together")
    table.add_column("tests", justify="right", footer=str(len(results)))
    for outcome in present:
        number = Text(str(whole[outcome]), style=STYLES[outcome])
        table.add_column(str(outcome), justify="right", footer=number)
    parts = {suite: sum(len(r.parts) for r in results if r.suite == suite) for suite in by_suite}
    if any(parts.values()):
        table.add_column("parts", justify="right", footer=str(sum(parts.values())))
    if held:
        table.add_column("held", justify="right", footer=str(held.total()))
    table.add_column("time", justify="right", footer=clock(sum(seconds.values())))
    for suite, counts in by_suite.items():
        cells = [
            Text(str(counts[outcome] or "-"), style=STYLES[outcome] if counts[outcome] else "dim")
            for outcome in present
        ]
        if any(parts.values()):
            cells.append(Text(str(parts[suite] or "-"), style="" if parts[suite] else "dim"))
        if held:
            cells.append(Text(str(held[suite] or "-"), style="" if held[suite] else "dim"))
        table.add_row(suite, str(counts.total() + held[suite]), *cells, clock(seconds[suite]))
    return table


def slowest(results: Sequence[Result]) -> Table | None:
    """The slowest tests, when any is slow enough to matter."""
    slow = sorted((r for r in results if r.seconds >= SLOW), key=lambda r: -r.seconds)
    if not slow:
        return None
    table = Table.grid(padding=(0, 2))
    table.add_column(style="dim", no_wrap=True)
    table.add_column(justify="right", no_wrap=True)
    table.add_column(overflow="fold")
    for place, result in enumerate(slow[:SHOWN_SLOW]):
        title = "slowest" if place == 0 else ""
        table.add_row(title, clock(result.seconds), in_line(result.address))
    return table


def coverage_lines(covered: Covered) -> Text:
    """How many operations of an API were called, which were not, and the statuses that came."""
    called = {name for name, _, _, _ in covered.exercised}
    whole = len(called) + len(covered.missing)
    statuses = sorted({status for _, status, _, _ in covered.exercised})
    line = Text.assemble(("covered  ", "dim"), f"{visible(covered.source)}: {len(called)} of ")
    line.append(f"{many(whole, 'operation')}, statuses {', '.join(statuses)}")
    if covered.missing:
        more = len(covered.missing) - SHOWN_MISSING
        shown = ", ".join(covered.missing[:SHOWN_MISSING])
        rest = f" and {more} more" if more > 0 else ""
        line.append(f"; not called: {visible(shown)}{rest}", style="khaki1")
    return line


def closing_line(event: RunFinished, run: str) -> Text:
    """Everything in one line: counts, time, and why the exit code is what it is."""
    counts = Counter({Outcome(name): count for name, count in event.counts.items()})
    apart = Counter({Outcome(name): count for name, count in event.quarantined.items()})
    line = counted(counts) if counts or apart else Text("nothing was run")
    if apart:
        line.append(", " if counts else "").append(f"{apart.total()} quarantined (")
        line.append_text(counted(apart)).append(")")
    if event.unrun:
        line.append(f", {many(event.unrun, 'test')} not run", style="bold khaki1")
    line.append(f" in {clock(event.seconds)}")
    if event.reason:
        line.append(f"; {event.reason}", style="bold khaki1")
    line.append(f"  (exit {event.exit_code}, run {run})", style="dim")
    return line
