"""Compares two load tests: a table of all steps, and a picture of their distributions."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from rich.text import Text

from wolfbane.errors import InputError, Problem
from wolfbane.load.comparison import StepChange
from wolfbane.reports.console.layout import Column
from wolfbane.reports.load.charts import draw_distribution
from wolfbane.reports.load.tables import span
from wolfbane.reports.text import visible

_COLOURS = ("#5f86a6", "#c8372d")
_ACROSS = 3


def change_columns(changes: Sequence[StepChange]) -> list[Column]:
    """Each step with its times in both load tests, and whether they changed significantly."""

    def cells(percent: float, *, after: bool) -> list[str]:
        return [span((c.after if after else c.before).percentile(percent)) for c in changes]

    names = [
        Text(
            f"  {visible(c.step)}" if c.step else visible(c.workflow.rpartition("#")[2]),
            style="" if c.step else "bold",
        )
        for c in changes
    ]
    return [
        Column("step", names, wraps=True),
        Column("median", cells(50, after=False), right=True),
        Column("now", cells(50, after=True), right=True),
        Column("95%", cells(95, after=False), 1, right=True),
        Column("now", cells(95, after=True), 1, right=True),
        Column("99%", cells(99, after=False), 2, right=True),
        Column("now", cells(99, after=True), 2, right=True),
        Column("", [_words(change) for change in changes]),
    ]


def _words(change: StepChange) -> Text:
    before, after = change.before.percentile(50), change.after.percentile(50)
    if change.slower:
        return Text(f"slower by a factor of {after / before:.1f}", style="bold indian_red1")
    if change.faster:
        return Text("faster", style="dark_cyan")
    return Text("-", style="dim")


def slower_tests(changes: Sequence[StepChange]) -> Iterator[str]:
    """The tests with slower steps, by address."""
    yield from dict.fromkeys(change.workflow for change in changes if change.slower)


def changes_as_data(changes: Sequence[StepChange]) -> list[dict[str, Any]]:
    """The JSON data of each step; times are in seconds."""
    return [
        {
            "workflow": c.workflow,
            "step": c.step,
            "slower": c.slower,
            "faster": c.faster,
            "noise": round(c.noise, 6),
            **{
                name: {f"p{p:g}": round(h.percentile(p), 6) for p in (50, 95, 99)}
                for name, h in (("before", c.before), ("after", c.after))
            },
        }
        for c in changes
    ]


def draw_changes(changes: Sequence[StepChange], path: Path) -> None:
    """Write the distributions of each step in one picture, as PNG or SVG. Raises InputError."""
    if not changes:
        raise InputError(
            Problem("--picture needs two load tests, but these runs are not load tests")
        )
    from matplotlib.figure import Figure

    rows = math.ceil(len(changes) / _ACROSS)
    figure = Figure(figsize=(12.8, 2.8 * rows), layout="constrained")
    for number, change in enumerate(changes, 1):
        axes = figure.add_subplot(rows, _ACROSS, number)
        lines = [("before", change.before), ("after", change.after)]
        draw_distribution(
            axes, [(name, h, colour) for (name, h), colour in zip(lines, _COLOURS, strict=True)]
        )
        name = change.workflow.rpartition("#")[2] + (f", {change.step}" if change.step else "")
        axes.set_title(name.replace("$", r"\$"), fontsize=9, loc="left")
        axes.set_ylabel("ms", fontsize=8)
        axes.tick_params(labelsize=8)
        axes.spines[["top", "right"]].set_visible(False)
        axes.legend(fontsize=8, frameon=False)
    try:
        figure.savefig(path, dpi=100)
    except (OSError, ValueError) as error:
        raise InputError(Problem(f"cannot write the picture: {error}", str(path))) from None
