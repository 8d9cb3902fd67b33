"""``wolfbane report``."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.path_completion import on_disk
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.errors import InputError, Problem
from wolfbane.formats.registry import NAMES


@click.command("report", cls=Command)
@click.argument("run", default="last", shell_complete=completion_sources.runs)
@click.option("--as", "form", type=click.Choice(NAMES), required=True, help="The report format.")
@click.option(
    "--to",
    "path",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="PATH",
    shell_complete=on_disk(),
    help="The file to write. [default: standard output]",
)
@workspace_option
def command(run: str, form: str, path: Path | None, workspace: Path | None) -> None:
    """Write a report of a recorded run.

    RUN is a run's name or the start of it, 'last' (the default), or 'previous'.

    \b
    wolfbane report --as markdown
    wolfbane report previous --as ctrf --to previous.json
    """
    from wolfbane.reports.report_files import read_targets, render, write_reports
    from wolfbane.results.record import read_record
    from wolfbane.results.runs import find_run

    if form == "record" and path is None and sys.stdout.isatty():
        raise InputError(
            Problem("an archive cannot be printed to a terminal", hint="use --to PATH")
        )
    if path:
        targets = read_targets([f"{form}={path}"])
    else:
        targets = []
    opened = workspace_at(workspace)
    record = read_record(find_run(opened.results, run))
    if targets:
        write_reports(targets, record)
    else:
        sys.stdout.buffer.write(render(form, record))
