"""``wolfbane import``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.path_completion import on_disk
from wolfbane.cli.options.values import ExistingFile
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo
from wolfbane.reports.text import many, visible

if TYPE_CHECKING:
    from wolfbane.app.importing import ImportedReport


@click.command("import", cls=Command)
@click.argument(
    "files",
    nargs=-1,
    required=True,
    metavar="FILE...",
    type=ExistingFile(),
    shell_complete=on_disk(),
)
@click.option(
    "--suite", default="", metavar="NAME", help="The suite to assign the imported tests to."
)
@click.option(
    "--env",
    "target",
    default="",
    metavar="NAME",
    help="The environment in which the run took place.",
)
@workspace_option
@click.pass_context
def command(
    ctx: click.Context, files: tuple[Path, ...], suite: str, target: str, workspace: Path | None
) -> None:
    """Import reports of other tools into the history. Each report becomes one run.

    FILE is xUnit-style XML, CTRF, TAP, or a Wolfbane report as JSON. The format is detected from
    the content. A report that is already imported is skipped. If some files cannot be read, they
    are listed, the other files are imported, and the exit code is 1.

    \b
    wolfbane import build/results.xml
    wolfbane import nightly/*.xml --suite ledger --env staging
    """
    from wolfbane.app.importing import import_reports

    opened = workspace_at(workspace)
    problems, reports = import_reports(opened, files, suite, environment=target)
    for problem in problems:
        echo(f"wolfbane: {problem}", err=True)
    unread = 0
    for report in reports:
        if report.run is None:
            unread += 1
            echo(f"wolfbane: {report.error}", err=True)
        else:
            echo(f"{report.path}: run {report.run.name}, {visible(_words(report))}")
    if unread:
        echo(f"wolfbane: {unread} of {many(len(files), 'file')} could not be read", err=True)
        ctx.exit(1)


def _words(report: ImportedReport) -> str:
    assert report.run is not None
    message = "was already imported"
    if report.is_new:
        counts = [f"{count} {outcome}" for outcome, count in report.run.counts.items()]
        message = ": ".join(filter(None, [many(report.tests, "test"), ", ".join(counts)]))
    if report.run.reason:
        return f"{message}; {report.run.reason}"
    return message
