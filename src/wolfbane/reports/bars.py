"""The progress bars of a run."""

from __future__ import annotations

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

from wolfbane.reports.style import Page


def progress_bars(console: Page) -> Progress:
    """Bars that go away at the end: a title, how much is done, and what is bad."""
    return Progress(
        TextColumn("{task.description}", style="bold"),
        BarColumn(bar_width=30, complete_style="dark_cyan", finished_style="dark_cyan"),
        MofNCompleteColumn(),
        TextColumn("{task.fields[bad]}", style="mark"),
        console=console,
        transient=True,
    )
