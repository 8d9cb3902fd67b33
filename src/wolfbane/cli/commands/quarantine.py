"""``wolfbane quarantine``."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import date, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options.base_command import CommandGroup
from wolfbane.cli.options.selection_options import selection_options
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo, echo_json
from wolfbane.errors import InputError, Problem

if TYPE_CHECKING:
    from wolfbane.app.selection import Selected
    from wolfbane.reports.console.quarantine import QuarantinedTests

STABLE = 10
LOOKED_BACK = 30


@click.group("quarantine", cls=CommandGroup)
def command() -> None:
    """Manage quarantined tests. A failure of a quarantined test does not fail the run.

    \b
    wolfbane quarantine add --name crane --because 'it is slow to wake'
    wolfbane quarantine list
    wolfbane quarantine release
    """


def _day(ctx: click.Context, param: click.Parameter, value: datetime | None) -> date | None:
    if value:
        return value.date()
    return None


@command.command("add")
@selection_options
@click.option(
    "--because", required=True, metavar="TEXT", help="The reason. It is shown in every run."
)
@click.option(
    "--until",
    type=click.DateTime(["%Y-%m-%d"]),
    callback=_day,
    metavar="DATE",
    help="The last day. After it, runs fail until you change the entry.",
)
@click.option("--owner", default="", metavar="WHO", help="The person or team responsible.")
@click.option("--ticket", default="", metavar="URL", help="The issue that tracks the problem.")
def add_entry(
    select: Callable[[], Selected], because: str, until: date | None, owner: str, ticket: str
) -> None:
    """Quarantine the tests that a selection matches. Adds an entry to quarantine.toml.

    \b
    wolfbane quarantine add page/map --name crane --because 'slow to wake'
    """
    from wolfbane.inventory.empty import nothing_chosen
    from wolfbane.results.quarantine import NAME, QuarantineEntry, add
    from wolfbane.selection import choose

    selected = select()
    expression = str(selected.choice)
    if expression == "everything":
        raise InputError(
            Problem("select the tests to quarantine, with a path, --name, --tag, --pick, ...")
        )
    status = selected.newest.overall().status
    tests = choose(selected.choice, selected.inventory.tests, status).chosen
    if not tests:
        raise nothing_chosen(selected.inventory, selected.choice, status)
    if until is not None and until < date.today():
        raise InputError(Problem(f"--until {until} is in the past"))
    if not because.strip():
        raise InputError(Problem("--because is empty; give a reason"))
    entry = QuarantineEntry(
        match=expression,
        because=because,
        since=date.today(),
        until=until,
        owner=owner,
        ticket=ticket,
    )
    add(selected.inventory.workspace.root, entry)
    echo(f"added to {NAME}: {expression}")
    for test in tests[:STABLE]:
        echo(f"  {test.address}")
    if len(tests) > STABLE:
        echo(f"  and {len(tests) - STABLE} more")


@command.command("list")
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="The output format.",
)
@workspace_option
def list_entries(workspace: Path | None, form: str) -> None:
    """List the entries with their tests, end dates, and how often the tests passed recently."""
    from wolfbane.reports.console.quarantine import as_data, entry_lines
    from wolfbane.reports.console.style import make_console

    quarantined = _with_history(workspace)
    if form == "json":
        echo_json(json.dumps(as_data(quarantined), indent=1, ensure_ascii=False))
        return
    console = make_console()
    for line in entry_lines(quarantined, date.today()):
        console.print(line, soft_wrap=True)


@command.command("release")
@click.argument("numbers", nargs=-1, type=click.IntRange(1), metavar="[NUMBER]...")
@click.option(
    "--stable",
    type=click.IntRange(1),
    default=STABLE,
    show_default=True,
    metavar="N",
    help="Suggest entries whose tests all passed in their last N runs.",
)
@workspace_option
def release_entries(workspace: Path | None, numbers: tuple[int, ...], stable: int) -> None:
    """Remove the entries with these numbers (see 'list').

    Without numbers, suggest entries to remove.
    """
    from wolfbane.results.quarantine import NAME, release

    quarantined = _with_history(workspace)
    if numbers:
        if wrong := [number for number in numbers if number > len(quarantined)]:
            entries = "1 entry"
            if len(quarantined) != 1:
                entries = f"{len(quarantined)} entries"
            raise InputError(Problem(f"there is no entry {wrong[0]}; the list has {entries}"))
        chosen = [quarantined[number - 1].entry.match for number in numbers]
        root = workspace_at(workspace).root
        release(root, chosen)
        for match in chosen:
            echo(f"removed from {NAME}: {match}")
        return
    if not quarantined:
        return
    ready = [(number, each) for number, each in enumerate(quarantined, 1) if each.stable >= stable]
    for number, each in ready:
        echo(f"{number}  {each.entry.match}: passed in the last {each.stable} runs")
    if not ready:
        echo(f"no entry has tests that passed in all of their last {stable} runs")


def _with_history(workspace: Path | None) -> list[QuarantinedTests]:
    """Every entry with its tests and their history."""
    from wolfbane.inventory import open_inventory
    from wolfbane.reports.console.quarantine import QuarantinedTests
    from wolfbane.results.history.opening import open_history
    from wolfbane.results.history.queries import in_each_environment
    from wolfbane.results.quarantine import Quarantine, read_entries

    opened = workspace_at(workspace)
    quarantine = Quarantine(read_entries(opened.root))
    if not quarantine.entries:
        echo("no tests are quarantined; see 'wolfbane quarantine add --help'", err=True)
    by_entry: dict[int, list[str]] = {id(entry): [] for entry in quarantine.entries}
    for test in open_inventory(opened).tests:
        if entry := quarantine.entry(test):
            by_entry[id(entry)].append(test.address)
    store, _ = open_history(opened)
    quarantined = []
    for entry in quarantine.entries:
        places = by_entry[id(entry)]
        runs = store.runs_of(places, LOOKED_BACK)
        quarantined.append(QuarantinedTests(entry, tuple(in_each_environment(store, places, runs))))
    return quarantined
