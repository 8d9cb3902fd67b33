"""The look: one colour and one mark for each outcome, the same wherever it appears."""

from __future__ import annotations

import os
import shutil
import sys
from collections import Counter

from rich.console import Console
from rich.text import Text
from rich.theme import Theme

from wolfbane.model import Account, Outcome

ORDER = tuple(Outcome)
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
    Account.ADDED: "added: its launcher told of it, and nobody knew it",
    Account.UNASKED: "unasked: its launcher ran it, and it was not chosen",
}
_THEME = Theme(
    {"dim": "grey58", "title": "bold", "mark": "bold indian_red1", "progress.download": "none"}
)
PIPED_WIDTH = 80


def counted(counts: Counter[Outcome], between: str = ", ") -> Text:
    """``12 passed, 1 failed`` in their colours."""
    said = [
        Text(f"{counts[outcome]} {outcome}", style=STYLES[outcome])
        for outcome in ORDER
        if counts[outcome]
    ]
    return Text(between).join(said)


def make_console(*, error: bool = False) -> Console:
    """A console for standard output: colours on a terminal only, and never with NO_COLOR."""
    stream = sys.stderr if error else sys.stdout
    width = None
    if not stream.isatty():
        width = int(os.environ.get("COLUMNS") or PIPED_WIDTH)
    elif shutil.get_terminal_size().columns > 120:
        width = 120
    return _Console(theme=_THEME, stderr=error, highlight=False, width=width, emoji=False)


class _Console(Console):
    """Leaves it to the program what a reader who left means."""

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError
