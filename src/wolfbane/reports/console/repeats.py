"""Shows how often repeated tests passed."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from wolfbane.model import Repeated, Result
from wolfbane.reports.console.layout import Column
from wolfbane.reports.console.style import STYLES
from wolfbane.reports.text import clock, visible


def repeat_table(results: Sequence[Result]) -> list[Column]:
    """Each repeated test with its times; the tests that failed most often are first."""
    pairs = [(result, result.repeated) for result in results if result.repeated]
    pairs.sort(key=lambda pair: pair[1].passed / pair[1].runs)
    if not pairs:
        return []
    rows = [repeated for _, repeated in pairs]
    return [
        Column("passed", [_passed(*pair) for pair in pairs], right=True),
        Column("median", [clock(each.median) for each in rows], 1, right=True),
        Column("fastest", [clock(each.fastest) for each in rows], 3, right=True),
        Column("slowest", [clock(each.slowest) for each in rows], 2, right=True),
        Column("test", [visible(result.address) for result, _ in pairs], wraps=True),
    ]


def repeats_shown(repeated: Repeated) -> str:
    """How often a test passed, and its times, in a sentence."""
    times = f"{clock(repeated.fastest)} to {clock(repeated.slowest)}"
    passed = f"passed {repeated.passed:,} of {repeated.runs:,} runs"
    return f"{passed}; median {clock(repeated.median)}, {times}"


def _passed(result: Result, repeated: Repeated) -> Text:
    style = ""
    if repeated.passed < repeated.runs:
        style = STYLES[result.outcome]
    return Text(f"{repeated.passed:,} of {repeated.runs:,}", style=style)
