"""The plan of a run that starts no test."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from rich.text import Text

from wolfbane.model import Result
from wolfbane.planning.plan import Plan
from wolfbane.reports.console.style import Page
from wolfbane.reports.text import in_line, many, visible


def print_plan(
    console: Page, plan: Plan, broken: Sequence[Result], whole_files: Collection[str]
) -> None:
    """Addresses on standard output, one per line, for piping; then the counts.

    ``whole_files``: suites in which only files can be selected.
    """
    console.lines(in_line(test.address) for test in plan.tests)
    for result in broken:
        reason = visible(result.message).partition("\n")[0]
        line = Text.assemble((f"{result.outcome}", "bold orange1"), f"  {result.path}  {reason}")
        console.print(line, soft_wrap=True)
    for suite in dict.fromkeys(test.suite for test in plan.tests):
        if suite in whole_files:
            message = (
                f"{suite}: whole files will run, because the launcher does not accept test names"
            )
            console.print(Text(message, style="khaki1"), soft_wrap=True)
    files = len(plan.paths)
    line = Text(f"{many(len(plan.tests), 'test')} in {many(files, 'file')} would run", style="bold")
    for rule, count in plan.left_out.items():
        line.append(f"; {count} excluded by {visible(rule)}", style="not bold khaki1")
    console.print(line, soft_wrap=True)
