"""``wolfbane open``."""

from __future__ import annotations

from pathlib import Path

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo

NAME = "report.html"


@click.command("open", cls=Command)
@click.argument("run", default="last", shell_complete=completion_sources.runs)
@click.option(
    "--no-browser", is_flag=True, help="Write the report and print its path, but open no browser."
)
@workspace_option
def command(run: str, no_browser: bool, workspace: Path | None) -> None:
    """Open the HTML report of a recorded run in your browser.

    RUN is a run's name or the start of it, 'last' (the default), or 'previous'. The report is one
    HTML file in the folder of the run. Its path is printed.

    \b
    wolfbane open
    wolfbane open previous --no-browser
    """
    import webbrowser

    from wolfbane.reports.report_files import write_reports
    from wolfbane.results.record import read_record
    from wolfbane.results.runs import find_run

    opened = workspace_at(workspace)
    folder = find_run(opened.results, run)
    path = folder / NAME
    write_reports([("html", path)], read_record(folder))
    echo(path)
    if not no_browser and not webbrowser.open(path.as_uri()):
        echo("wolfbane: no browser could be started; open the file yourself", err=True)
