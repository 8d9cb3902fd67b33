"""``wolfbane list``."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.revision_options import revision_options
from wolfbane.cli.options.selection_options import selection_options
from wolfbane.cli.options.target_options import environment_options, status_labels
from wolfbane.cli.options.values import reading
from wolfbane.cli.streams import echo, echo_json
from wolfbane.planning.shares import Share, read_share

if TYPE_CHECKING:
    from wolfbane.app.selection import Selected
    from wolfbane.cli.options.target_options import Point
    from wolfbane.environments import Environment
    from wolfbane.inventory import Inventory
    from wolfbane.model import Test, TestFile
    from wolfbane.selection import Choice


GROUPINGS = ("suite", "file", "kind", "tag", "browser")


@click.command("list", cls=Command)
@selection_options
@revision_options
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "tree", "json"]),
    default="table",
    show_default=True,
    help="The output format.",
)
@click.option(
    "--by",
    type=click.Choice(GROUPINGS),
    default="suite",
    show_default=True,
    help="Group the tests by this.",
)
@environment_options
@click.option(
    "--exact",
    is_flag=True,
    help="Load the selected files, which runs their code, so that the list is exact.",
)
@click.option(
    "--share",
    callback=reading(read_share),
    metavar="N/OF",
    help="List one share of the tests, as 'run --share' divides them. Loads the selected files.",
)
def command(
    select: Callable[[], Selected],
    point: Point,
    form: str,
    by: str,
    exact: bool,
    share: Share | None,
) -> None:
    """List the tests that a selection matches, without running them.

    Tests marked ~ were found by reading the source file. The list becomes exact after the file was
    run, or with --exact.

    \b
    wolfbane list
    wolfbane list --tag smoke --as tree
    wolfbane list --by tag
    wolfbane list --share 1/3
    """
    from wolfbane.inventory.candidate_suites import files_that_may_have_more
    from wolfbane.inventory.empty import nothing_chosen
    from wolfbane.inventory.needed import with_needed
    from wolfbane.selection import choose

    selected = select()
    inventory, choice = selected.inventory, selected.choice
    environment = point(inventory.workspace)[0] if exact or share else None
    if environment:
        _collect(selected, environment)
    labels, newest = status_labels(inventory.workspace), selected.newest
    known = newest.known(dict(zip(labels, labels))) if labels else newest.overall()
    tests = [test for label in labels or [""] for test in inventory.tests_at(label)]
    verdict = choose(choice, tests, known.status)
    chosen = _in_share(share, selected, environment, tests=verdict.chosen)
    _report_files(inventory, choice)
    more = files_that_may_have_more(inventory, choice)
    if not chosen and not more:
        raise nothing_chosen(inventory, choice, known.status)
    if form == "json":
        from wolfbane.reports.console.listing import as_json

        echo_json(as_json(chosen, known.status))
        return
    needed = len(with_needed(chosen, tests)[1])
    _show(chosen, form, by, left_out=verdict.left_out, needed=needed, unloaded=more)


def _show(
    tests: Sequence[Test],
    form: str,
    by: str,
    *,
    left_out: Mapping[str, int],
    needed: int,
    unloaded: Sequence[TestFile],
) -> None:
    from wolfbane.reports.console.listing import closing_lines, table, tree
    from wolfbane.reports.console.width import table_width

    room = table_width(sys.stdout)
    if form == "table":
        rows = table(tests, by, room)
    else:
        rows = tree(tests, by)
    paths = [file.path for file in unloaded]
    counts = closing_lines(tests, left_out, room, needed=needed, unloaded=paths)
    echo("\n".join([*rows, *counts]))


def _in_share(
    share: Share | None,
    selected: Selected,
    environment: Environment | None,
    tests: Sequence[Test],
) -> Sequence[Test]:
    """The tests that are in a share; all without one."""
    if share is None or environment is None:
        return tests
    from wolfbane.app.share_weights import addresses_of_share

    addresses = addresses_of_share(
        share, selected.inventory, selected.choice, environment=environment, tests=tests
    )
    return [test for test in tests if test.address in addresses]


def _report_files(inventory: Inventory, choice: Choice) -> None:
    """Print the files that cannot be loaded, warnings about others, and files in no suite."""
    from wolfbane.inventory.unclaimed import in_words, unclaimed
    from wolfbane.selection import may_match

    for file in inventory.files.values():
        if file.error:
            reason = file.error.strip().partition("\n")[0]
            echo(f"wolfbane: cannot load {file.path}: {reason}", err=True)
        elif may_match(choice.expression, file) is not False:
            for warning in file.warnings:
                echo(f"wolfbane: {file.path}:{warning}", err=True)
    if choice.untraced:
        from wolfbane.inventory.untraced import untraced_words

        echo(f"wolfbane: changed: {untraced_words(choice.untraced)}", err=True)
    if lost := unclaimed(inventory):
        echo(f"wolfbane: {in_words(lost)}; run 'wolfbane doctor' for details", err=True)


def _collect(selected: Selected, environment: Environment) -> None:
    from wolfbane.app.run import collect_exactly

    collect_exactly(selected, environment)
