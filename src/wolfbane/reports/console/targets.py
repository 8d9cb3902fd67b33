"""Shows the outcomes of a run in several environments side by side."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from wolfbane.model import Outcome, Result
from wolfbane.reports.console.layout import Column, Rows
from wolfbane.reports.console.style import STYLES, counted
from wolfbane.reports.text import in_line, visible

SHOWN = 12
_GAP = 3


def side_by_side(
    results: Sequence[Result], suites: Sequence[str], targets: Sequence[str], width: int
) -> Iterator[RenderableType]:
    """Suites by targets, and the tests with different outcomes. ``width`` in columns."""
    yield from _tables(results, suites, targets, width=width)
    differing = list(_differing(results, targets))
    if differing:
        yield from _different(differing, targets)


def _tables(
    results: Sequence[Result], suites: Sequence[str], targets: Sequence[str], width: int
) -> Iterator[Rows]:
    """One table, or several if the columns do not fit into one."""
    cells = {
        (suite, target): _cell(
            Counter(r.outcome for r in results if r.suite == suite and r.target == target)
        )
        for suite in suites
        for target in targets
    }
    together = {
        target: _cell(Counter(r.outcome for r in results if r.target == target))
        for target in targets
    }
    several = len(suites) > 1
    first = Column("suite", suites, footer="total" if several else None)
    columns = [first]
    for target in targets:
        column = Column(
            visible(target),
            [cells[suite, target] for suite in suites],
            footer=together[target] if several else None,
        )
        if len(columns) > 1 and Rows([*columns, column], _GAP).width > width:
            yield Rows(columns, _GAP)
            columns = [first]
        columns.append(column)
    yield Rows(columns, _GAP)


def _cell(counts: Counter[Outcome]) -> Text:
    if counts:
        return counted(counts, "\n")
    return Text("-", style="dim")


def _differing(
    results: Sequence[Result], targets: Sequence[str]
) -> Iterator[tuple[str, dict[str, Outcome]]]:
    """Tests by plain address, if their outcomes differ between environments."""
    by_test: dict[str, dict[str, Outcome]] = {}
    for result in results:
        bare = result.address.removesuffix(f" @{result.target}")
        by_test.setdefault(bare, {})[result.target] = result.outcome
    for address, ended in by_test.items():
        if len({ended.get(target) for target in targets} - {Outcome.BLOCKED}) > 1:
            yield address, ended


def _different(
    differing: Sequence[tuple[str, dict[str, Outcome]]], targets: Sequence[str]
) -> Iterator[Text]:
    yield Text("different outcomes", style="dim")
    for address, ended in differing[:SHOWN]:
        yield Text(f"  {in_line(address)}")
        line = Text("    ")
        for target in targets:
            outcome = ended.get(target)
            line.append(f"{visible(target)} ", style="dim")
            line.append(f"{outcome or 'not run'}   ", style=STYLES[outcome] if outcome else "dim")
        line.rstrip()
        yield line
    if len(differing) > SHOWN:
        yield Text(f"  and {len(differing) - SHOWN} more", style="dim")
