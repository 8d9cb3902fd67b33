"""The browsers of a workspace, for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.box import SIMPLE_HEAD
from rich.table import Table
from rich.text import Text

from wolfbane.execution.browser_check import Found
from wolfbane.reports.text import visible


def browser_table(browsers: Sequence[Found]) -> Table:
    """One line each: name, engine, version, window, who uses it, and whether it is here."""
    table = Table(box=SIMPLE_HEAD, padding=(0, 2, 0, 0), pad_edge=False)
    for title in ("browser", "engine", "version", "window", "suites", "here"):
        table.add_column(title, no_wrap=title != "suites", overflow="fold")
    for found in browsers:
        words = "opened" if found.opened else "yes"
        style = "mark" if found.problem else "dark_cyan"
        table.add_row(
            visible(found.name), found.engine, found.version or "-", found.window or "-",
            ", ".join(found.suites) or "-", Text("no" if found.problem else words, style=style),
        )  # fmt: skip
    return table


def problem_lines(browsers: Sequence[Found]) -> Iterator[Text]:
    """What is wrong, and what to do about it."""
    for found in browsers:
        if found.problem:
            yield Text(visible(found.problem))
