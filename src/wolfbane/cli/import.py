"""``wolfbane import``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec.structs import replace

from wolfbane.cli.commands import Command
from wolfbane.cli.disk_words import on_disk
from wolfbane.cli.selection_options import workspace_option
from wolfbane.cli.values import ExistingFile
from wolfbane.errors import InputError
from wolfbane.model import at
from wolfbane.reports.text import many, visible

if TYPE_CHECKING:
    from wolfbane.results.store import RunEntry, Store, TestEnd


@click.command("import", cls=Command)
@click.argument(
    "files", nargs=-1, required=True, metavar="FILE...",
    type=ExistingFile(), shell_complete=on_disk(),
)  # fmt: skip
@click.option("--suite", default="", metavar="NAME", help="The suite that its tests are put in.")
@click.option(
    "--env", "target", default="", metavar="NAME", help="The environment that the run was in."
)
@workspace_option
@click.pass_context
def command(
    ctx: click.Context, files: tuple[Path, ...], suite: str, target: str, workspace: Path | None
) -> None:
    """Take reports from elsewhere into the history, each as a run.

    FILE is xUnit-style XML, CTRF, TAP, or a report as JSON; which one is seen from its
    beginning. What was taken in before is not taken in again. Files that cannot be read are
    named, the others are taken in, and the exit code is 1.

    \b
    wolfbane import build/results.xml
    wolfbane import nightly/*.xml --suite ledger --env staging
    """
    from wolfbane.results.opening import open_history
    from wolfbane.workspace.find import open_workspace

    found = open_workspace(workspace or Path.cwd(), given=workspace is not None)
    store, problems = open_history(found)
    for problem in problems:
        click.echo(f"wolfbane: {problem}", err=True)
    left = sum(not _took_in(store, path, suite, target) for path in files)
    if left:
        click.echo(f"wolfbane: {left} of {many(len(files), 'file')} could not be read", err=True)
        ctx.exit(1)


def _took_in(store: Store, path: Path, suite: str, target: str) -> bool:
    """Take in one report; False, with the reason printed, where it cannot be read."""
    from wolfbane.results.report_import import read_report

    try:
        entry, ended = read_report(path, suite)
    except InputError as error:
        click.echo(f"wolfbane: {error}", err=True)
        return False
    if target:
        entry, ended = _against(target, entry, ended)
    words = "is on record already"
    if store.add(entry, ended):
        counts = [f"{count} {outcome}" for outcome, count in entry.counts.items()]
        if apart := sum(each.quarantined for each in ended):
            counts.append(f"{apart} quarantined")
        words = ": ".join(filter(None, [many(len(ended), "test"), ", ".join(counts)]))
    reason = f"; {entry.reason}" if entry.reason else ""
    click.echo(f"{path}: run {entry.name}, {visible(words + reason)}")
    return True


def _against(
    environment: str, entry: RunEntry, ended: Sequence[TestEnd]
) -> tuple[RunEntry, list[TestEnd]]:
    """A run as one in an environment."""
    theirs = [replace(e, address=at(e.place, environment), environment=environment) for e in ended]
    return replace(entry, target=environment), theirs
