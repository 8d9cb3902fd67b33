"""Prints the browsers of a workspace."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.text import Text

from wolfbane.browsers.status import BrowserStatus
from wolfbane.reports.console.layout import Column
from wolfbane.reports.text import visible


def browser_table(browsers: Sequence[BrowserStatus]) -> list[Column]:
    """One line each: name, engine, version, window, users, and whether it is installed."""
    here = [_presence(browser) for browser in browsers]
    return [
        Column("browser", [visible(found.name) for found in browsers]),
        Column("engine", [found.engine for found in browsers], 1),
        Column("version", [found.version or "-" for found in browsers], 2),
        Column("window", [found.window or "-" for found in browsers], 3),
        Column("suites", [", ".join(found.suites) or "-" for found in browsers], 4, wraps=True),
        Column("here", here),
    ]


def problem_lines(browsers: Sequence[BrowserStatus]) -> Iterator[Text]:
    """The problem and its fix."""
    for found in browsers:
        if found.problem:
            yield Text(visible(found.problem))


def _presence(browser: BrowserStatus) -> Text:
    if browser.problem:
        return Text("no", "mark")
    return Text("opened" if browser.opened else "yes", "dark_cyan")
