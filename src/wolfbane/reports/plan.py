"""Print a plan: what would run, in which order, and what was left out."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from wolfbane.model import Result
from wolfbane.planning import Plan
from wolfbane.reports.text import many, visible


def print_plan(console: Console, plan: Plan, broken: Sequence[Result]) -> None:
    """Addresses on standard output, one a line, so that they can be piped on; then the counts."""
    for test in plan.tests:
        console.print(Text(visible(test.address)), soft_wrap=True)
    for result in broken:
        reason = visible(result.message).partition("\n")[0]
        line = Text.assemble((f"{result.outcome}", "bold orange1"), f"  {result.path}  {reason}")
        console.print(line, soft_wrap=True)
    files = len({batch.path for batch in plan.batches})
    line = Text(f"{many(len(plan.tests), 'test')} in {many(files, 'file')} would run", style="bold")
    for rule, count in plan.left_out.items():
        line.append(f"; {count} left out by {visible(rule)}", style="not bold khaki1")
    console.print(line, soft_wrap=True)
