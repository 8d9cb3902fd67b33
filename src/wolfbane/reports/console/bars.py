"""The progress bars of a run."""

from __future__ import annotations

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

from wolfbane.reports.console.style import Page


def progress_bars(console: Page) -> Progress:
    """Progress bars that disappear at the end: a title, the progress, and the failures."""
    return Progress(
        TextColumn("{task.description}", style="bold"),
        BarColumn(bar_width=30, complete_style="dark_cyan", finished_style="dark_cyan"),
        MofNCompleteColumn(),
        TextColumn("{task.fields[bad]}", style="mark"),
        console=console,
        transient=True,
    )
