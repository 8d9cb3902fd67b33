"""``wolfbane show``."""

from __future__ import annotations

from pathlib import Path

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option


@click.command("show", cls=Command)
@click.argument("run", default="last", shell_complete=completion_sources.runs)
@workspace_option
@click.option("-q", "--quiet", is_flag=True, help="Print only the failures and the last line.")
@click.option(
    "-v", "--verbose", is_flag=True, help="Print every test, with full stack traces and output."
)
def command(run: str, workspace: Path | None, quiet: bool, verbose: bool) -> None:
    """Print the output of a recorded run again.

    RUN is a run's name or the start of it, 'last' (the default), or 'previous'.

    \b
    wolfbane show
    wolfbane show previous --verbose
    """
    from wolfbane.reports.console.console_report import ConsoleReport
    from wolfbane.reports.console.style import make_console
    from wolfbane.results.journal import read_journal
    from wolfbane.results.runs import find_run

    opened = workspace_at(workspace)
    folder = find_run(opened.results, run)
    report = ConsoleReport(
        make_console(),
        quiet=quiet,
        verbose=verbose,
        live=False,
        results=opened.settings.workspace.results,
    )
    for event in read_journal(folder):
        report(event)
    report.unfinished()
