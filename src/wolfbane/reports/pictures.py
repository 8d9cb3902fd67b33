"""Draws the history: one row per test, one column per run, coloured by outcome, with durations."""

from __future__ import annotations

import logging
import re
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from wolfbane.errors import InputError, Problem
from wolfbane.model import Outcome
from wolfbane.results.history.entries import RunEntry
from wolfbane.results.history.queries import TestHistory

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST = 40
"""Tests that a picture shows; the tests that failed most often are first."""
COLOURS = {
    Outcome.PASSED: "#2f9e8f",
    Outcome.FLAKY: "#d9b32c",
    Outcome.FAILED: "#d1495b",
    Outcome.ERRORED: "#e0843a",
    Outcome.TIMED_OUT: "#9b5fc0",
    Outcome.CRASHED: "#7a2f6b",
    Outcome.BLOCKED: "#b8a57a",
    Outcome.SKIPPED: "#8fb3d1",
    Outcome.TODO: "#b9bfc4",
}
_LONGEST = 58


def draw(histories: Sequence[TestHistory], entries: Sequence[RunEntry], path: Path) -> None:
    """Write a PNG or SVG, by the path's extension. Raises InputError."""
    import matplotlib as mpl

    # Its first use on a machine says that fonts are looked for: nothing that a reader can use.
    logging.getLogger("matplotlib").setLevel(logging.ERROR)
    mpl.use("Agg")
    from matplotlib import pyplot

    shown = sorted(histories, key=lambda h: (h.passed - len(h.counted), h.address))[:MOST]
    height = 1.9 + 0.27 * len(shown)
    figure, (outcomes, times) = pyplot.subplots(
        1, 2, figsize=(12.8, max(height, 3)), width_ratios=(3, 1), sharey=True, layout="constrained"
    )
    _draw_outcomes(outcomes, shown, list(reversed(entries)))
    _draw_times(times, shown)
    for axes in (outcomes, times):
        axes.spines[["top", "right", "left"]].set_visible(False)
        axes.tick_params(length=0)
    try:
        figure.savefig(path, dpi=100)
    except (OSError, ValueError) as error:
        raise InputError(Problem(f"cannot write the picture: {error}", str(path))) from None
    finally:
        pyplot.close(figure)


def _draw_outcomes(
    axes: Axes, shown: Sequence[TestHistory], oldest_first: Sequence[RunEntry]
) -> None:
    """A row for each test, a column for each run, a patch for each outcome."""
    from matplotlib.patches import Patch, Rectangle

    for row, history in enumerate(shown):
        for column, ended in enumerate(history.ended):
            if ended:
                colour = COLOURS[Outcome(ended.outcome)]
                axes.add_patch(Rectangle((column - 0.46, row - 0.42), 0.92, 0.84, color=colour))
    axes.set_xlim(-0.6, len(oldest_first) - 0.4)
    axes.set_ylim(len(shown) - 0.4, -0.6)
    axes.set_yticks(range(len(shown)), [_end(h.address) for h in shown], fontsize=8)
    step = max(1, len(oldest_first) // 12)
    ticks = range(0, len(oldest_first), step)
    labels = [oldest_first[n].began[5:16].replace("T", " ") for n in ticks]
    axes.set_xticks(ticks, labels, rotation=45, ha="right", fontsize=8)
    present = {Outcome(e.outcome) for h in shown for e in h.ended if e}
    patches = [Patch(color=COLOURS[o], label=str(o)) for o in Outcome if o in present]
    axes.legend(
        handles=patches,
        loc="lower left",
        bbox_to_anchor=(0, 1.01),
        ncols=9,
        frameon=False,
        fontsize=8,
    )


def _draw_times(axes: Axes, shown: Sequence[TestHistory]) -> None:
    """The duration of each test: a dot for each run, a line for the median."""
    for row, history in enumerate(shown):
        seconds = [each.seconds for each in history.counted]
        if seconds:
            axes.plot(seconds, [row] * len(seconds), "o", color="#9fb4c0", ms=3, zorder=1)
            axes.plot([history.median], [row], "|", color="#16324a", ms=11, mew=2, zorder=2)
    axes.set_xlabel("seconds; the line is the median", fontsize=8)
    axes.tick_params(labelsize=8)
    axes.set_xscale("symlog", linthresh=0.01)
    axes.set_xlim(left=0)
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:g}")


def _end(address: str) -> str:
    """The end of an address, from the beginning of a folder, a name or a word."""
    text = address.replace("$", r"\$")
    if len(text) <= _LONGEST:
        return text
    kept = text[-_LONGEST + 4 :]
    return "... " + re.sub(r"^[^/# ]*[/# ]+(?=.)", "", kept)
