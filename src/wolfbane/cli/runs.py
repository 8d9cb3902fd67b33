"""``wolfbane runs``."""

from __future__ import annotations

import json
from pathlib import Path

import click

from wolfbane.cli.commands import Command
from wolfbane.cli.selecting import workspace_option


@click.command("runs", cls=Command)
@click.option(
    "--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True,
    help="The form of the answer.",
)  # fmt: skip
@workspace_option
def command(form: str, workspace: Path | None) -> None:
    """List the runs that are kept, with what they take on the disk.

    \b
    wolfbane runs
    wolfbane runs --as json
    """
    from wolfbane.reports.text import aligned, bytes_shown
    from wolfbane.results.keeping import kept_runs
    from wolfbane.workspace.find import open_workspace

    found = open_workspace(workspace or Path.cwd(), given=workspace is not None)
    runs = kept_runs(found.results)
    if form == "json":
        rows = [
            {"run": r.name, "began": r.began.isoformat(), "bytes": r.size, "evidence": r.evidence}
            for r in runs
        ]
        click.echo(json.dumps(rows, indent=1))
        return
    lines = [
        (run.name, f"{run.began:%Y-%m-%d %H:%M}", bytes_shown(run.size),
         f"of these {bytes_shown(run.evidence)} evidence" if run.evidence else "")
        for run in runs
    ]  # fmt: skip
    for line in aligned(lines):
        click.echo(line.rstrip())
    whole = bytes_shown(sum(run.size for run in runs))
    click.echo(f"{len(runs)} {'run' if len(runs) == 1 else 'runs'}, {whole} in {found.results}")
