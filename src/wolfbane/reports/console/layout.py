"""Fits lines and tables to the available width. A table names the columns that it leaves out."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

import msgspec
from msgspec.structs import replace
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
from rich.segment import Segment
from rich.text import Text

NARROWEST = 16
"""Minimum width in columns for wrapped text, however narrow the terminal is."""
_BREAKS = re.compile(r"[/#._=,&?@:-](?=[^\s/#])")


def wrapped(text: Text | str, width: int) -> list[Text]:
    """A text in lines of ``width``: broken at spaces, or otherwise after a sign in a long word."""
    if isinstance(text, str):
        whole = Text(text)
    else:
        whole = text
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
    if ends:
        return ends[-1]
    return width


def facts(rows: Iterable[tuple[str, Text | str]], width: int) -> Text:
    """Names and values, one per line; a long value continues below."""
    given = list(rows)
    label = max((len(name) for name, _ in given), default=0)
    lines = []
    for name, value in given:
        for number, line in enumerate(wrapped(value, max(width - label - 2, NARROWEST))):
            title = ""
            if not number:
                title = name
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
    """A column of a table.

    If there is too little room, columns with the highest ``rank`` are dropped first; rank 0 is
    never dropped.

    ``wraps``: its cells may take several lines. ``footer`` is below all rows.
    """

    title: str
    cells: Sequence[Text | str]
    rank: int = 0
    right: bool = False
    wraps: bool = False
    footer: Text | str | None = None


def fitted(console: Console, columns: Sequence[Column], width: int) -> Iterator[RenderableType]:
    """The table with the columns that fit, and the names of the others."""
    kept = list(columns)
    gap = 1
    if _least_width(kept, 2) <= width:
        gap = 2
    while (room := width - _least_width(kept, gap)) < 0 and any(c.rank for c in kept):
        kept.remove(max(kept, key=lambda column: column.rank))
    yield Rows([_with_lines(column, NARROWEST + max(room, 0)) for column in kept], gap)
    left = [column.title for column in columns if column not in kept]
    if left:
        yield Text(f"left out to fit a width of {width} characters: {', '.join(left)}", style="dim")


class AsTheyAre:
    """Texts on separate lines, printed without wrapping.

    The terminal wraps them, so that they can be copied in one piece. This takes a tenth of the time
    of printing each separately.
    """

    def __init__(self, texts: Sequence[Text | str]) -> None:
        self._texts = texts

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        for text in self._texts:
            yield from [Segment(text)] if isinstance(text, str) else _segments(console, text)
            yield Segment.line()


class Rows:
    """A table with a line below the column titles.

    The library's own tables process each cell several times: twenty thousand rows took ten seconds.
    """

    def __init__(self, columns: Sequence[Column], gap: int) -> None:
        self._columns, self._gap = columns, gap
        self._widths = [_width(column) for column in columns]
        self._across = sum(self._widths) + gap * (len(columns) - 1)

    @property
    def width(self) -> int:
        """Its width, with a blank on each side."""
        return self._across + 2

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        yield Segment.line()
        yield from self._row(console, [Text(c.title, "table.header") for c in self._columns])
        line = "\N{BOX DRAWINGS LIGHT HORIZONTAL}"
        if options.ascii_only:
            line = "-"
        yield from (Segment(f" {line * self._across}"), Segment.line())
        drawn: dict[int, Sequence[Segment]] = {}
        for cells in zip(*(column.cells for column in self._columns), strict=True):
            yield from self._row(console, cells, drawn)
        if any(column.footer is not None for column in self._columns):
            yield Segment.line()
            yield from self._row(console, [_bold(c.footer or "") for c in self._columns])
        yield Segment.line()

    def _row(
        self,
        console: Console,
        cells: Sequence[Text | str],
        drawn: dict[int, Sequence[Segment]] | None = None,
    ) -> Iterator[Segment]:
        """The lines of a row; cells with fewer lines are empty below.

        ``drawn`` caches cells with one line, by identity: many rows may share one.
        """
        split = [_lines(cell) for cell in cells]
        for number in range(max(map(len, split))):
            plain = " "
            row = zip(cells, split, self._columns, self._widths, strict=True)
            for whole, lines, column, width in row:
                cell = lines[number] if number < len(lines) else ""
                blanks = " " * (width - _length(cell))
                if column.right:
                    plain += blanks
                if isinstance(cell, str):
                    plain += cell
                else:
                    yield Segment(plain)
                    if drawn is None or cell is not whole:
                        yield from _segments(console, cell)
                    else:
                        if id(cell) not in drawn:
                            drawn[id(cell)] = [*_segments(console, cell)]
                        yield from drawn[id(cell)]
                    plain = ""
                plain += " " * self._gap if column.right else blanks + " " * self._gap
            yield Segment(f"{plain.rstrip(' ')}\n")


def _bold(cell: Text | str) -> Text:
    """A cell of the last line, which is for all rows."""
    whole = Text("", "table.footer")
    return whole.append(cell)


def _segments(console: Console, cell: Text) -> Iterable[Segment]:
    if console.color_system is None:  # styles would be worked out, and then left out
        return [Segment(cell.plain)]
    if not cell.spans:
        return [Segment(cell.plain, console.get_style(cell.style))]
    return cell.render(console)


def _lines(cell: Text | str) -> Sequence[Text | str]:
    if isinstance(cell, str):
        return cell.split("\n")
    if "\n" in cell.plain:
        return list(cell.split("\n", allow_blank=True))
    return [cell]


def _length(cell: Text | str) -> int:
    """The width of a cell, or of its longest line, in columns."""
    if isinstance(cell, str):
        text = cell
    else:
        text = cell.plain
    if text.isascii() and "\n" not in text:
        return len(text)
    return max(map(cell_len, text.split("\n")))


def _width(column: Column) -> int:
    cells = [column.title, *column.cells, *([column.footer] if column.footer is not None else [])]
    return max(map(_length, cells))


def _least_width(columns: Sequence[Column], gap: int) -> int:
    """The minimum width of a table with these columns."""
    narrow = [replace(c, cells=["x" * NARROWEST]) if c.wraps else c for c in columns]
    return Rows(narrow, gap).width


def _with_lines(column: Column, room: int) -> Column:
    """A column whose cells have lines of ``room``, if it wraps."""
    if not column.wraps:
        return column
    cells = [
        cell if _length(cell) <= room and "\n" not in str(cell) else _hanging(cell, room)
        for cell in column.cells
    ]
    return replace(column, cells=cells)


def _hanging(cell: str | Text, width: int) -> Text:
    """A text in lines of ``width``; continuation lines are indented further."""
    if isinstance(cell, str):
        text = Text(cell)
    else:
        text = cell
    inside = len(text.plain) - len(text.plain.lstrip())
    first, *rest = wrapped(text, width)
    if not rest:
        return text
    first.rstrip()
    below = Text(text.plain[len(first) :].strip())
    indent = " " * (inside + 2)
    lines = [Text(indent) + line for line in wrapped(below, width - len(indent))]
    for line in lines:
        line.rstrip()
    return Text("\n").join([first, *lines])
