"""``wolfbane runs``."""

from __future__ import annotations

from pathlib import Path

import click

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo, echo_json


@click.command("runs", cls=Command)
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="The output format.",
)
@workspace_option
def command(form: str, workspace: Path | None) -> None:
    """List the stored runs with their verdict, selection and size.

    \b
    wolfbane runs
    wolfbane runs --as json
    """
    from wolfbane.basis.units import bytes_shown
    from wolfbane.reports.console.layout import fitted
    from wolfbane.reports.console.runs_table import as_json, kept_table
    from wolfbane.reports.console.style import make_console
    from wolfbane.reports.text import many
    from wolfbane.results.retention import kept_runs

    opened = workspace_at(workspace)
    runs = kept_runs(opened.results)
    if form == "json":
        echo_json(as_json(runs))
        return
    console = make_console()
    if runs:
        for part in fitted(console, kept_table(runs), console.width):
            console.print(part)
    whole = bytes_shown(sum(run.size for run in runs))
    echo(f"{many(len(runs), 'run')}, {whole} in {opened.results}")
