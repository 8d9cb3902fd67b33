"""``wolfbane history``."""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.selection_options import selection_options
from wolfbane.cli.options.workspace_option import all_workspaces, workspace_or_all_option
from wolfbane.cli.streams import echo, echo_json
from wolfbane.errors import InputError, Problem, did_you_mean

if TYPE_CHECKING:
    from wolfbane.app.selection import Selected
    from wolfbane.results.history.store import Store

UNCLAIMED = "none"
"""The name for runs without a workspace."""


@click.command("history", cls=Command)
@functools.partial(selection_options, option=workspace_or_all_option)
@click.option(
    "--claim",
    metavar="WORKSPACE",
    help="In a shared history: assign the runs of another workspace to "
    "this workspace. 'none' assigns the runs that have no workspace.",
)
@click.option(
    "--runs",
    type=click.IntRange(1),
    default=30,
    show_default=True,
    metavar="N",
    help="Show only the N newest runs that contain a selected test.",
)
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="The output format.",
)
@click.option(
    "--picture",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="PATH",
    help="Draw the outcomes over time in a .png or .svg file.",
)
def command(
    select: Callable[[], Selected], claim: str | None, runs: int, form: str, picture: Path | None
) -> None:
    """Show recorded runs. With a selection, show the outcomes of its tests over time.

    A test that ran in several environments has one line for each environment.

    A database can hold the runs of several workspaces. By default, only the runs of this workspace
    are shown. '--workspace all' shows the runs of all workspaces.

    \b
    wolfbane history
    wolfbane history --tag smoke --runs 50
    wolfbane history tests/fees --picture fees.png
    wolfbane history --workspace all
    """
    from wolfbane.results.history.opening import open_history

    selected, across = select(), all_workspaces()
    store, problems = open_history(selected.inventory.workspace, everybody=across)
    for problem in problems:
        echo(f"wolfbane: {problem}", err=True)
    if claim is not None:
        _claim(store, claim, across=across)
    elif str(selected.choice) == "everything" and not picture:
        _show_runs(store, runs, form)
    else:
        _show_tests(selected, store, runs, form=form, picture=picture)


def _show_runs(store: Store, runs: int, form: str) -> None:
    """The newest runs, one per line."""
    from wolfbane.reports.console.history import run_table, runs_as_json
    from wolfbane.reports.console.layout import fitted
    from wolfbane.reports.console.style import make_console

    console, entries = make_console(), store.runs(runs)
    _say_unclaimed(store)
    if form == "json":
        echo_json(runs_as_json(entries))
    elif entries:
        for part in fitted(console, run_table(entries), console.width):
            console.print(part)
    else:
        echo("no runs are recorded here", err=True)


def _show_tests(
    selected: Selected, store: Store, runs: int, form: str, picture: Path | None
) -> None:
    """The outcomes of the selected tests in the newest runs that contain them."""
    from wolfbane.inventory.empty import nothing_chosen
    from wolfbane.reports.console.history import legend, test_table, tests_as_json
    from wolfbane.reports.console.layout import fitted
    from wolfbane.reports.console.style import make_console
    from wolfbane.results.history.queries import in_each_environment
    from wolfbane.selection import choose

    status = selected.newest.overall().status
    known = selected.inventory.tests
    addresses = {test.address for test in known}
    # Tests of imported reports may be in no file of this workspace.
    imported = {e.test: e.place for e in store.newest() if e.place not in addresses}
    tests = choose(selected.choice, [*known, *imported], status).chosen
    if not tests:
        raise nothing_chosen(selected.inventory, selected.choice, status)
    places = [imported.get(test, test.address) for test in tests]
    everything = str(selected.choice) == "everything"
    if everything:
        entries = store.runs(runs)
    else:
        entries = store.runs_of(places, runs)
    pairs = in_each_environment(store, places, entries)
    if picture:
        from wolfbane.reports.pictures import draw

        draw([each for each in pairs if each.counted], entries, picture)
        echo(f"wrote {picture}", err=True)
    if form == "json":
        echo_json(tests_as_json(pairs, entries))
    elif not picture:
        console = make_console()
        for part in fitted(console, test_table(pairs, console.reading_width), console.width):
            console.print(part)
        console.print(legend(console.reading_width), soft_wrap=True)


def _claim(store: Store, workspace: str, *, across: bool) -> None:
    """Assign the runs of another workspace, by its identity or its title, to this one."""
    if across:
        raise InputError(
            Problem("--claim works on one workspace; do not use it with '--workspace all'")
        )
    from wolfbane.reports.text import many

    known = store.workspaces()
    titles = {"": UNCLAIMED, **{i: title for i, (title, _) in known.items() if i}}
    meant = [identity for identity, title in titles.items() if workspace in (identity, title)]
    if len(meant) != 1:
        names = [*titles.values(), *filter(None, titles)]
        message = f"there is no workspace '{workspace}' in the history"
        if meant:
            message = (
                f"{len(meant)} workspaces are named '{workspace}'; "
                f"use one of these identities: {', '.join(meant)}"
            )
        raise InputError(Problem(message, hint=did_you_mean(workspace, names) if not meant else ""))
    echo(f"assigned {many(store.claim(meant[0]), 'run')} to this workspace")


def _say_unclaimed(store: Store) -> None:
    """Explain how to assign older runs of a shared history that have no workspace."""
    if count := store.unclaimed():
        echo(
            f"wolfbane: {count} older runs in the team's history have no workspace; "
            f"'wolfbane history --claim {UNCLAIMED}' assigns them to this workspace",
            err=True,
        )
