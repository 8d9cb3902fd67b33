"""A source excerpt with line numbers, a gutter, and a mark at the relevant line.

The console and the mails use it. The HTML page draws its own with its style sheet.
"""

from __future__ import annotations

from collections.abc import Iterator

from wolfbane.model import Excerpt
from wolfbane.reports.text import visible

HERE, GUTTER = "\N{BLACK DIAMOND}", "\N{MIDDLE DOT}"
PLAIN_HERE, PLAIN_GUTTER = "*", "."
"""For outputs with a limited character set."""


def excerpt_lines(excerpt: Excerpt, *, plain: bool = False) -> Iterator[tuple[str, str, bool]]:
    """The number with its mark, the source, and whether it is the relevant line."""
    here, gutter = (PLAIN_HERE, PLAIN_GUTTER) if plain else (HERE, GUTTER)
    width = len(str(excerpt.first + len(excerpt.lines)))
    for number, line in enumerate(excerpt.lines, excerpt.first):
        is_here = number == excerpt.line
        yield f"{number:>{width}} {here if is_here else gutter}", visible(line), is_here
