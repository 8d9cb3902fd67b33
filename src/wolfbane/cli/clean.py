"""``wolfbane clean``."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from wolfbane.cli.commands import Command
from wolfbane.cli.selection_options import workspace_option
from wolfbane.cli.values import age
from wolfbane.errors import InputError, Problem


@click.command("clean", cls=Command)
@click.option("--keep", type=click.IntRange(0), metavar="N", help="Keep the newest N runs.")
@click.option("--older-than", callback=age, metavar="TIME",
              help="Take away only runs that are older: 12h, 30d.")  # fmt: skip
@click.option("--evidence", is_flag=True, help="Take away their evidence alone.")
@click.option("--dry-run", is_flag=True, help="Say what would be taken away, and take nothing.")
@workspace_option
def command(
    keep: int | None, older_than: float | None, evidence: bool, dry_run: bool,
    workspace: Path | None,
) -> None:  # fmt: skip
    """Take old runs away; the history keeps how their tests ended.

    \b
    wolfbane clean --keep 20
    wolfbane clean --older-than 30d --evidence
    """
    from wolfbane.reports.text import bytes_shown
    from wolfbane.results.opening import open_history
    from wolfbane.results.retention import kept_runs, outdated, remove
    from wolfbane.workspace.find import open_workspace

    if keep is None and older_than is None:
        raise InputError(Problem("say what to keep: --keep 20, or --older-than 30d"))
    found = open_workspace(workspace or Path.cwd(), given=workspace is not None)
    _, problems = open_history(found)  # what goes is in the history first
    for problem in problems:
        click.echo(f"wolfbane: {problem}", err=True)
    gone = outdated(kept_runs(found.results), keep, older_than, datetime.now())
    if not dry_run:
        for run in gone:
            try:
                remove(run, evidence_only=evidence)
            except OSError as error:
                raise InputError(Problem(f"cannot be taken away: {error}")) from None
    freed = sum(run.evidence if evidence else run.size for run in gone)
    verb = "would take away" if dry_run else "took away"
    what = "the evidence of " if evidence else ""
    runs = f"{len(gone)} {'run' if len(gone) == 1 else 'runs'}"
    click.echo(f"{verb} {what}{runs}, {bytes_shown(freed)}")
