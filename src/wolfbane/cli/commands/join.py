"""``wolfbane join``."""

from __future__ import annotations

import tempfile
from pathlib import Path

import click

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.path_completion import on_disk
from wolfbane.cli.options.run_options import request_options
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo
from wolfbane.setup.run_request import RunRequest


@click.command("join", cls=Command)
@click.argument(
    "places",
    nargs=-1,
    required=True,
    metavar="PATH...",
    type=click.Path(path_type=Path),
    shell_complete=on_disk(),
)
@request_options("reports", "quiet", "verbose")
@workspace_option
@click.pass_context
def command(
    ctx: click.Context, places: tuple[Path, ...], request: RunRequest, workspace: Path | None
) -> None:
    """Combine the records of all shares into one run. Exits with the exit code of the combined run.

    PATH is the folder of a run, an archive written by 'wolfbane report --as record', or a folder
    that contains such folders or archives. All shares must have the same selection, the same state
    of the sources, and the same environments. If a share was run twice, the newer record is used.

    \b
    wolfbane run --share 1/2 --report record=out/1.tar.gz     in the first job
    wolfbane run --share 2/2 --report record=out/2.tar.gz     in the second job
    wolfbane join out --report html=report.html               in a final job
    """
    from wolfbane.app.joining import join_runs
    from wolfbane.app.share_records import read_shares
    from wolfbane.reports.console.console_report import ConsoleReport
    from wolfbane.reports.console.style import make_console
    from wolfbane.reports.report_files import read_targets, write_reports

    targets = read_targets(request.reports)
    opened = workspace_at(workspace)
    report = ConsoleReport(
        make_console(),
        quiet=request.quiet,
        verbose=request.verbose,
        live=False,
        results=opened.settings.workspace.results,
    )
    with tempfile.TemporaryDirectory(prefix="wolfbane-join-") as scratch:
        end = join_runs(opened, read_shares(places, Path(scratch)), [report])
    for problem in end.problems:
        echo(f"wolfbane: {problem}", err=True)
    write_reports(targets, end.record)
    ctx.exit(end.exit_code)
