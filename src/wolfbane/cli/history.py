"""``wolfbane history``."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import click

from wolfbane.cli.commands import Command
from wolfbane.cli.selecting import Selected, selection_options


@click.command("history", cls=Command)
@selection_options
@click.option(
    "--runs", type=click.IntRange(1), default=30, show_default=True, metavar="N",
    help="How many runs to look back: the newest that had one of the chosen tests.",
)  # fmt: skip
@click.option(
    "--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True,
    help="The form of the answer.",
)  # fmt: skip
@click.option(
    "--picture", type=click.Path(path_type=Path, dir_okay=False), metavar="PATH",
    help="Draw the tests over time: .png or .svg.",
)  # fmt: skip
def command(select: Callable[[], Selected], runs: int, form: str, picture: Path | None) -> None:
    """Show the runs on record; with a selection, how its tests ended over time.

    A test that ran in several environments has a line for each.

    \b
    wolfbane history
    wolfbane history --tag smoke --runs 50
    wolfbane history tests/fees --picture fees.png
    """
    from wolfbane.inventory.empty import nothing_chosen
    from wolfbane.reports import history as shown
    from wolfbane.reports.style import make_console
    from wolfbane.results.history import in_each_environment
    from wolfbane.results.opening import open_history
    from wolfbane.selection import choose

    selected = select()
    store, problems = open_history(selected.inventory.workspace)
    for problem in problems:
        click.echo(f"wolfbane: {problem}", err=True)
    from wolfbane.reports.layout import fitted

    console = make_console()
    everything = str(selected.choice) == "everything"
    if everything and not picture:
        entries = store.runs(runs)
        if not entries and form != "json":
            click.echo("no run is on record here", err=True)
            return
        if form == "json":
            click.echo(shown.runs_as_json(entries))
        else:
            for part in fitted(console, shown.run_table(entries), console.width):
                console.print(part)
        return
    status = selected.newest.overall().status
    tests = choose(selected.choice, selected.inventory.tests, status).chosen
    if not tests:
        raise nothing_chosen(selected.inventory, selected.choice, status)
    places = [test.address for test in tests]
    entries = store.runs(runs) if everything else store.runs_of(places, runs)
    found = in_each_environment(store, places, entries)
    if picture:
        from wolfbane.reports.pictures import draw

        draw([each for each in found if each.counted], entries, picture)
        click.echo(f"written: {picture}", err=True)
    if form == "json":
        click.echo(shown.tests_as_json(found, entries))
    elif not picture:
        for part in fitted(console, shown.test_table(found, console.reading_width), console.width):
            console.print(part)
        console.print(shown.legend())
