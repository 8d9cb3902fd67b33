"""``wolfbane clean``."""

from __future__ import annotations

from pathlib import Path

import click

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.values import age
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo


@click.command("clean", cls=Command)
@click.option("--keep", type=click.IntRange(0), metavar="N", help="Keep the N newest runs.")
@click.option(
    "--older-than", callback=age, metavar="TIME", help="Remove only runs older than this: 12h, 30d."
)
@click.option("--evidence", is_flag=True, help="Remove only the evidence of these runs.")
@click.option("--dry-run", is_flag=True, help="Print what would be removed, but remove nothing.")
@workspace_option
def command(
    keep: int | None,
    older_than: float | None,
    evidence: bool,
    dry_run: bool,
    workspace: Path | None,
) -> None:
    """Remove old runs, and copies of git revisions that no stored run uses.

    The test outcomes stay in the history.

    \b
    wolfbane clean --keep 20
    wolfbane clean --older-than 30d --evidence
    """
    from wolfbane.app.cleaning import remove_runs
    from wolfbane.basis.units import bytes_shown
    from wolfbane.reports.text import many

    opened = workspace_at(workspace)
    removed = remove_runs(opened, keep, older_than, evidence_only=evidence, dry_run=dry_run)
    for problem in removed.problems:
        echo(f"wolfbane: {problem}", err=True)
    verb = "removed"
    if dry_run:
        verb = "would remove"
    what = ""
    if evidence:
        what = "the evidence of "
    echo(f"{verb} {what}{many(removed.runs, 'run')}, {bytes_shown(removed.size)}")
    if removed.copies:
        echo(f"{verb} unused copies of git revisions, {bytes_shown(removed.copies)}")
