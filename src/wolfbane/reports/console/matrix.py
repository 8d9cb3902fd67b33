"""The table of tests by browser, and the log of browser commands."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from rich.console import RenderableType
from rich.text import Text

from wolfbane.events.run_events import Commanded
from wolfbane.model import Outcome, Result, variant
from wolfbane.reports.console.layout import Column, facts, fitted
from wolfbane.reports.console.style import STYLES, Page
from wolfbane.reports.text import clock, visible

SHOWN = 40


def by_browser(console: Page, results: Sequence[Result]) -> Iterator[RenderableType]:
    """A table of tests by browsers, below their files; tests with equal outcomes are last."""
    browsers, rows = browser_rows(results)
    if not browsers:
        return
    order = list(rows)
    shown = {name: rows[name] for name in order[:SHOWN]}
    titles: list[str] = []
    cells: dict[str, list[Text]] = {browser: [] for browser in browsers}
    file = ""
    for name, row in shown.items():
        path, _, own = name.partition("#")
        if path != file:
            titles.append(visible(path))
            for column in cells.values():
                column.append(Text())
        file = path
        titles.append(f"  {visible(own)}")
        for browser, column in cells.items():
            column.append(_cell(row[browser].outcome if browser in row else None))
    columns = [Column("test", titles, wraps=True)]
    columns += [
        Column(visible(b), column, rank) for rank, (b, column) in enumerate(cells.items(), 1)
    ]
    yield from fitted(console, columns, console.width)
    if rest := order[SHOWN:]:
        alike = any(_interesting({b: r.outcome for b, r in rows[n].items()}) for n in rest)
        yield Text(
            f"and {len(rest)} more" + ("" if alike else " that passed in all browsers"), style="dim"
        )


def browser_rows(results: Sequence[Result]) -> tuple[list[str], dict[str, dict[str, Result]]]:
    """Browsers, and tests by name with their outcomes in each; different outcomes first."""
    browsers = sorted({result.browser for result in results if result.browser})
    rows: dict[str, dict[str, Result]] = {}
    for result in results:
        if result.browser:
            bare = result.address.removesuffix(variant("", result.browser, result.target))
            rows.setdefault(variant(bare, "", result.target), {})[result.browser] = result

    def plain(name: str) -> bool:
        return not _interesting({b: r.outcome for b, r in rows[name].items()})

    return browsers, {name: rows[name] for name in sorted(rows, key=lambda n: (plain(n), n))}


def _interesting(row: dict[str, Outcome]) -> bool:
    return set(row.values()) != {Outcome.PASSED}


def _cell(outcome: Outcome | None) -> Text:
    if outcome:
        return Text(str(outcome), style=STYLES[outcome])
    return Text("-", style="dim")


def browser_lines(browsers: Mapping[str, str], width: int) -> Text:
    """The browsers of a run, with the names and versions that they reported themselves."""
    names = [
        reported if reported.split(" ")[0] == name else f"{name} ({reported})"
        for name, reported in sorted(browsers.items())
    ]
    return facts([("browsers", Text(visible(", ".join(names))))], width)


def command_line(event: Commanded) -> Text:
    """One command to a browser."""
    line = Text(f"  {visible(event.browser)}  ", style="dim")
    line.append(visible(event.sentence), style="not dim default")
    return line.append(f"  {visible(event.answer)}, {clock(event.seconds)}", style="dim")
