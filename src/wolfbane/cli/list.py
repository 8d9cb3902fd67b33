"""``wolfbane list``."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from wolfbane.cli.commands import Command
from wolfbane.cli.revision_options import revision_options
from wolfbane.cli.selection_options import selection_options
from wolfbane.cli.target_options import environment_options, status_labels

if TYPE_CHECKING:
    from wolfbane.app.selection import Selected
    from wolfbane.cli.target_options import Point
    from wolfbane.environments import Environment
    from wolfbane.inventory import Inventory
    from wolfbane.selection import Choice

GROUPINGS = ("suite", "file", "kind", "tag", "browser")


@click.command("list", cls=Command)
@selection_options
@revision_options
@click.option(
    "--as", "form", type=click.Choice(["table", "tree", "json"]), default="table",
    show_default=True, help="The output format.",
)  # fmt: skip
@click.option(
    "--by", type=click.Choice(GROUPINGS), default="suite", show_default=True,
    help="Group the tests by this.",
)  # fmt: skip
@environment_options
@click.option("--exact", is_flag=True, help="Load the selected files, so that the list is exact.")
def command(select: Callable[[], Selected], point: Point, form: str, by: str, exact: bool) -> None:
    """List the tests that a selection matches, without running them.

    Tests marked ~ were found by reading the source file. The list becomes exact after the file was
    run, or with --exact.

    \b
    wolfbane list
    wolfbane list --tag smoke --as tree
    wolfbane list --by tag
    wolfbane list tests/fees --as json
    """
    from wolfbane.inventory.empty import nothing_chosen
    from wolfbane.inventory.in_play import files_that_may_have_more
    from wolfbane.inventory.needed import with_needed
    from wolfbane.inventory.unclaimed import in_words, unclaimed
    from wolfbane.reports.listing import as_json, closing_lines, table, tree
    from wolfbane.reports.width import table_width
    from wolfbane.selection import choose

    selected = select()
    inventory, choice = selected.inventory, selected.choice
    if exact:
        _collect(selected, point(inventory.workspace)[0])
    labels = status_labels(inventory.workspace)
    known = selected.newest.known({label: label for label in labels}) if labels else None
    status = (known or selected.newest.overall()).status
    tests = [test for label in labels or [""] for test in inventory.tests_at(label)]
    verdict = choose(choice, tests, status)
    _report_files(inventory, choice)
    more = files_that_may_have_more(inventory, choice)
    if not verdict.chosen and not more:
        raise nothing_chosen(inventory, choice, status)
    if form == "json":
        click.echo(as_json(verdict.chosen, status))
        return
    if lost := unclaimed(inventory):
        click.echo(f"wolfbane: {in_words(lost)}; run 'wolfbane doctor' for details", err=True)
    room = table_width(sys.stdout)
    rows = table(verdict.chosen, by, room) if form == "table" else tree(verdict.chosen, by)
    needed, unloaded = len(with_needed(verdict.chosen, tests)[1]), [file.path for file in more]
    counts = closing_lines(verdict.chosen, verdict.left_out, room, needed=needed, unloaded=unloaded)
    click.echo("\n".join([*rows, *counts]))


def _report_files(inventory: Inventory, choice: Choice) -> None:
    """Print the files that cannot be loaded, and the warnings about the others."""
    from wolfbane.selection import may_match

    for file in inventory.files.values():
        if file.error:
            reason = file.error.strip().partition("\n")[0]
            click.echo(f"wolfbane: cannot load {file.path}: {reason}", err=True)
        elif may_match(choice.expression, file) is not False:
            for warning in file.warnings:
                click.echo(f"wolfbane: {file.path}:{warning}", err=True)


def _collect(selected: Selected, environment: Environment) -> None:
    from wolfbane.app.run import collect_exactly

    collect_exactly(selected, environment)
