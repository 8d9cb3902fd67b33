"""Lines and tables that fit the width there is; a table says which columns it leaves out."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

import msgspec
from msgspec.structs import replace
from rich.box import SIMPLE_HEAD
from rich.console import Console, RenderableType
from rich.table import Table
from rich.text import Text

NARROWEST = 16
"""Columns that text is still wrapped in, however narrow the terminal."""
UNBOUNDED = 10_000
"""Columns of a pipe whose reader said no width."""
_BREAKS = re.compile(r"[/#._=,&?@:-](?=[^\s/#])")


def wrapped(text: Text | str, width: int) -> list[Text]:
    """A text in lines of ``width``: broken at spaces, else after a sign inside of a long word."""
    whole = Text(text) if isinstance(text, str) else text
    return [
        part
        for line in whole.split("\n", allow_blank=True)
        for part in line.divide(_places_to_break(line.plain, width))
    ]


def _places_to_break(line: str, width: int) -> Iterator[int]:
    begin = 0
    while len(line) - begin > width:
        begin += _place_to_break(line[begin:], width)
        yield begin


def _place_to_break(line: str, width: int) -> int:
    begin = len(line) - len(line.lstrip())
    space = line.rfind(" ", begin + 1, width + 1)
    if space > begin:
        return len(line) - len(line[space:].lstrip())
    ends = [match.end() for match in _BREAKS.finditer(line, begin, width)]
    return ends[-1] if ends else width


def facts(rows: Iterable[tuple[str, Text | str]], width: int) -> Text:
    """Names and values, a line each; a long value goes on below itself."""
    given = list(rows)
    label = max((len(name) for name, _ in given), default=0)
    lines = []
    for name, value in given:
        for number, line in enumerate(wrapped(value, max(width - label - 2, NARROWEST))):
            title = "" if number else name
            whole = Text.assemble((f"{title:<{label}}  ", "dim"), line)
            whole.rstrip()
            lines.append(whole)
    return Text("\n").join(lines)


def rule(console: Console, width: int) -> Text:
    """A line across."""
    return Text(
        ("-" if console.options.ascii_only else "\N{BOX DRAWINGS LIGHT HORIZONTAL}") * width
    )


class Column(msgspec.Struct, frozen=True):
    """A column of a table. Those of a higher ``rank`` go first where there is no room; 0 stays.

    ``wraps``: its cells may take several lines. ``footer`` stands below all rows.
    """

    title: str
    cells: Sequence[Text | str]
    rank: int = 0
    right: bool = False
    wraps: bool = False
    footer: Text | str | None = None


def fitted(console: Console, columns: Sequence[Column], width: int) -> Iterator[RenderableType]:
    """The table with the columns that there is room for, and the names of the others."""
    kept = list(columns)
    gap = 1 if _measured(console, kept, 1) <= width else 0
    while (room := width - _measured(console, kept, gap)) < 0 and any(c.rank for c in kept):
        kept.remove(max(kept, key=lambda column: column.rank))
    yield _drawn(kept, NARROWEST + max(room, 0), gap)
    left = [column.title for column in columns if column not in kept]
    if left:
        yield Text(f"not shown at {width} columns: {', '.join(left)}", style="dim")


def _measured(console: Console, columns: Sequence[Column], gap: int) -> int:
    """The least width of a table with these columns."""
    unbounded = console.options.update(max_width=UNBOUNDED)
    narrow = [replace(c, cells=["x" * NARROWEST] * len(c.cells)) if c.wraps else c for c in columns]
    return console.measure(_drawn(narrow, NARROWEST, gap), options=unbounded).maximum


def _drawn(columns: Sequence[Column], room: int, gap: int) -> Table:
    """A table with ``gap`` and 1 between its columns; those that wrap are ``room`` wide."""
    has_footer = any(column.footer is not None for column in columns)
    table = Table(box=SIMPLE_HEAD, show_footer=has_footer, padding=(0, gap, 0, 0), pad_edge=False)
    for column in columns:
        table.add_column(
            column.title, column.footer or "", justify="right" if column.right else "left",
            no_wrap=not column.wraps,
        )  # fmt: skip
    for cells in zip(*(_cells(column, room) for column in columns), strict=True):
        table.add_row(*cells)
    return table


def _cells(column: Column, room: int) -> list[Text]:
    shown = [Text(cell) if isinstance(cell, str) else cell for cell in column.cells]
    return [_hanging(cell, room) for cell in shown] if column.wraps else shown


def _hanging(text: Text, width: int) -> Text:
    """A text in lines of ``width``; what goes on below stands further in than its beginning."""
    inside = len(text.plain) - len(text.plain.lstrip())
    first, *rest = wrapped(text, width)
    if not rest:
        return text
    first.rstrip()
    below = Text(text.plain[len(first) :].strip())
    indent = " " * (inside + 2)
    return Text("\n").join(
        [first, *(Text(indent) + line for line in wrapped(below, width - len(indent)))]
    )
