"""The colour and the mark of each outcome, the same in all reports."""

from __future__ import annotations

import re
import sys
from collections import Counter
from collections.abc import Iterable, Iterator
from typing import Any, TextIO, cast

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.text import Text
from rich.theme import Theme

from wolfbane.model import Discrepancy, Outcome
from wolfbane.reports.console.width import UNBOUNDED, table_width
from wolfbane.reports.text import visible

ORDER = tuple(Outcome)
ASSERTION = "assertion"
"""The outcome ``failed`` alone, where ``failed`` means every outcome that fails a run."""
STYLES = {
    Outcome.PASSED: "dark_cyan",
    Outcome.FLAKY: "bold yellow3",
    Outcome.FAILED: "bold indian_red1",
    Outcome.ERRORED: "bold orange1",
    Outcome.TIMED_OUT: "bold plum2",
    Outcome.CRASHED: "bold magenta",
    Outcome.BLOCKED: "bold khaki1",
    Outcome.SKIPPED: "steel_blue1",
    Outcome.TODO: "grey70",
}
ACCOUNTS = {
    Discrepancy.ADDED: "added: the launcher reported this test, "
    "but it was not known before the run",
    Discrepancy.UNASKED: "unasked: the launcher ran this test, but it was not selected",
}
_THEME = Theme(
    {"dim": "grey58", "title": "bold", "mark": "bold indian_red1", "progress.download": "none"}
)


PIPED_WIDTH = 80
"""Columns of prose if there is no terminal."""


def counted(counts: Counter[Outcome], between: str = ", ") -> Text:
    """``12 passed, 3 failed (2 assertion, 1 errored)`` in their colours.

    ``failed`` is every outcome that fails a run. The outcomes follow, unless all are assertions or
    all are blocked.
    """
    parts = {
        outcome: Text(f"{counts[outcome]} {outcome}", style=STYLES[outcome])
        for outcome in ORDER
        if counts[outcome]
    }
    failures = [outcome for outcome in parts if outcome.is_failure]
    if failures not in ([], [Outcome.FAILED], [Outcome.BLOCKED]):
        number = sum(counts[outcome] for outcome in failures)
        whole = Text(f"{number} {Outcome.FAILED}", style=STYLES[Outcome.FAILED])
        if Outcome.FAILED in parts:
            message = f"{counts[Outcome.FAILED]} {ASSERTION}"
            parts[Outcome.FAILED] = Text(message, style=STYLES[Outcome.FAILED])
        whole.append(" (").append_text(Text(", ").join(parts[outcome] for outcome in failures))
        parts[failures[0]] = whole.append(")")
        for outcome in failures[1:]:
            del parts[outcome]
    return Text(between).join(parts.values())


def make_console(*, error: bool = False) -> Page:
    """A console for standard output: colours on a terminal only, and never with NO_COLOR."""
    if error:
        stream = sys.stderr
    else:
        stream = sys.stdout
    width = table_width(stream)
    if stream.isatty():
        return Page(width, width, theme=_THEME, stderr=error, highlight=False, emoji=False)
    if width == UNBOUNDED:
        reading = PIPED_WIDTH
    else:
        reading = width
    return Page(
        reading,
        width,
        theme=_THEME,
        highlight=False,
        emoji=False,
        file=cast(TextIO, _WithoutTrailingSpaces(stream)),
    )


class Page(Console):
    """A console with a separate width for prose.

    ``reading_width`` is the width of the terminal. For a pipe, it applies only to prose: tables and
    names have their full length, because programs read them.
    """

    def __init__(self, reading_width: int, width: int, **options: Any) -> None:
        super().__init__(width=width, **options)
        self.reading_width = reading_width

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterator[Segment]:
        """The parts of an output, without control sequences that names and records contain."""
        for part in super().render(renderable, options):
            if part.control is None and not part.text.isprintable() and part.text != "\n":
                yield Segment(visible(part.text), part.style)
            else:
                yield part

    def lines(self, texts: Iterable[str]) -> None:
        """Plain texts, one per line, without layout: computing the layout takes longer than finding
        the texts.
        """
        self.file.writelines(f"{visible(text)}\n" for text in texts)

    def on_broken_pipe(self) -> None:
        """Leave the handling of a closed reader to the program."""
        raise BrokenPipeError


class _WithoutTrailingSpaces:
    """A stream for programs: padding up to the line width is only for terminals."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        self._stream.write(re.sub(r"[ \t]+(?=\n)", "", text))
        return len(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)
