"""``wolfbane import``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.commands import Command
from wolfbane.cli.disk_words import on_disk
from wolfbane.cli.selecting import workspace_option
from wolfbane.cli.values import ExistingFile
from wolfbane.model import at

if TYPE_CHECKING:
    from wolfbane.results.store import Ended, RunEntry


@click.command("import", cls=Command)
@click.argument(
    "files", nargs=-1, required=True, metavar="FILE...",
    type=ExistingFile(), shell_complete=on_disk(),
)  # fmt: skip
@click.option("--suite", default="", metavar="NAME", help="The suite that its tests are put in.")
@click.option("--env", "target", default="", metavar="NAME", help="What the run was against.")
@workspace_option
def command(files: tuple[Path, ...], suite: str, target: str, workspace: Path | None) -> None:
    """Take reports from elsewhere into the history, each as a run.

    FILE is xUnit-style XML, CTRF, TAP, or a report as JSON; which one is seen from its
    beginning. What was taken in before is not taken in again.

    \b
    wolfbane import build/results.xml
    wolfbane import nightly/*.xml --suite ledger --env staging
    """
    from wolfbane.reports.text import many
    from wolfbane.results.foreign import read_report
    from wolfbane.results.opening import open_history
    from wolfbane.workspace.find import open_workspace

    found = open_workspace(workspace or Path.cwd(), given=workspace is not None)
    runs = [read_report(path, suite) for path in files]
    store, problems = open_history(found)
    for problem in problems:
        click.echo(f"wolfbane: {problem}", err=True)
    for path, (entry, ended) in zip(files, runs, strict=True):
        if target:
            entry, ended = _against(target, entry, ended)  # noqa: PLW2901
        added = store.add(entry, ended)
        counts = ", ".join(f"{count} {outcome}" for outcome, count in entry.counts.items())
        words = f"{many(len(ended), 'test')}: {counts}" if added else "is on record already"
        click.echo(f"{path}: run {entry.name}, {words}")


def _against(
    environment: str, entry: RunEntry, ended: Sequence[Ended]
) -> tuple[RunEntry, list[Ended]]:
    """A run as one against an environment."""
    theirs = [replace(e, address=at(e.place, environment), environment=environment) for e in ended]
    return replace(entry, target=environment), theirs
