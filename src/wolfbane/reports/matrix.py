"""Tests against browsers, and what passes between them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from rich.box import SIMPLE_HEAD
from rich.console import RenderableType
from rich.table import Table
from rich.text import Text

from wolfbane.events import Commanded
from wolfbane.model import Outcome, Result, variant
from wolfbane.reports.style import STYLES
from wolfbane.reports.text import clock, ending, visible

SHOWN = 40
_SHORTEST = 20


def by_browser(results: Sequence[Result], width: int) -> Iterator[RenderableType]:
    """A table of tests against browsers; those that ended alike everywhere last."""
    browsers, found = browser_rows(results)
    if not browsers:
        return
    rows = {name: {b: r.outcome for b, r in row.items()} for name, row in found.items()}
    order = list(rows)
    table = Table(box=SIMPLE_HEAD, padding=(0, 2, 0, 0), pad_edge=False)
    cells = sum(max(len(name), *(len(o) for row in rows.values() for o in row.values())) + 2
                for name in browsers)  # fmt: skip
    room = max(width - cells - 5, _SHORTEST)
    table.add_column("test", no_wrap=True, max_width=room)
    for name in browsers:
        widest = max(len(name), *(len(row.get(name, "-")) for row in rows.values()))
        table.add_column(visible(name), no_wrap=True, min_width=widest)
    for name in order[:SHOWN]:
        table.add_row(ending(name, room), *(_cell(rows[name].get(b)) for b in browsers))
    yield table
    if len(order) > SHOWN:
        alike = "" if any(_interesting(rows[n]) for n in order[SHOWN:]) else " that passed in all"
        yield Text(f"and {len(order) - SHOWN} more{alike}", style="dim")


def browser_rows(results: Sequence[Result]) -> tuple[list[str], dict[str, dict[str, Result]]]:
    """Browsers, and tests by name with how they ended in each; those that differ first."""
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
    return Text(str(outcome), style=STYLES[outcome]) if outcome else Text("-", style="dim")


def browser_line(browsers: Mapping[str, str]) -> Text:
    """What the browsers called themselves."""
    told = ", ".join(f"{name} {version}" for name, version in sorted(browsers.items()))
    return Text.assemble(("browsers ", "dim"), visible(told))


def command_line(event: Commanded) -> Text:
    """One command to a browser."""
    line = Text(f"  {visible(event.browser)}  ", style="dim")
    line.append(visible(event.sentence), style="not dim default")
    return line.append(f"  {visible(event.answer)}, {clock(event.seconds)}", style="dim")
