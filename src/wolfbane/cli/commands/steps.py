"""``wolfbane steps``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.target_options import one_environment_options
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo, echo_json
from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.kinds.protocols import HasSteps, kinds_with

if TYPE_CHECKING:
    from collections.abc import Sequence

    from wolfbane.cli.options.target_options import Point
    from wolfbane.kinds.steps import StepDefinition, StepListing
    from wolfbane.kinds.suite import Suite
    from wolfbane.workspace.settings import Workspace


@click.command("steps", cls=Command)
@click.option(
    "--suite",
    "names",
    multiple=True,
    metavar="NAME",
    shell_complete=completion_sources.of_field("suite"),
    help="List only the steps of this suite.",
)
@click.option("--unused", is_flag=True, help="List only the steps that no scenario uses.")
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="The output format.",
)
@workspace_option
@one_environment_options
@click.pass_context
def command(
    ctx: click.Context,
    point: Point,
    names: tuple[str, ...],
    unused: bool,
    form: str,
    workspace: Path | None,
) -> None:
    """List the steps of scenario suites, where each is defined, and how often it is used.

    Near-duplicate steps, and scenario steps without a definition, are listed below the table. The
    command loads the step files, which runs their code.

    \b
    wolfbane steps
    wolfbane steps --unused
    wolfbane steps --suite rules --as json
    """
    from wolfbane.app.step_listing import list_steps
    from wolfbane.inventory import open_inventory
    from wolfbane.reports.console.steps import as_json

    opened = workspace_at(workspace)
    [environment] = point(opened)
    listing = list_steps(open_inventory(opened), _suites(opened, names), environment)
    shown = [each for each in listing.definitions if not (unused and each.uses)]
    if form == "json":
        echo_json(as_json(shown, listing))
    else:
        _show(listing, shown, unused=unused)
    for problem in listing.problems:
        echo(f"wolfbane: {problem}", err=True)
    if listing.problems:
        ctx.exit(2)


def _show(listing: StepListing, shown: Sequence[StepDefinition], *, unused: bool) -> None:
    """The table of steps, near duplicates, and undefined steps."""
    from wolfbane.reports.console.layout import fitted
    from wolfbane.reports.console.steps import step_table
    from wolfbane.reports.console.style import make_console
    from wolfbane.reports.text import many, visible

    if shown:
        console = make_console()
        for part in fitted(console, step_table(shown), console.width):
            console.print(part)
        if not unused:
            _show_alike(shown)
        idle = sum(not each.uses for each in shown)
        echo(many(idle, "unused step") if unused else f"{many(len(shown), 'step')}, {idle} unused")
    elif not listing.problems:
        echo("all steps are used" if unused else "no steps are defined")
    for use in listing.undefined[:_MOST]:
        echo(f"undefined step: {visible(use.text)} ({use.file}:{use.line})")
    if len(listing.undefined) > _MOST:
        echo(f"and {len(listing.undefined) - _MOST:,} more undefined steps")


def _show_alike(shown: Sequence[StepDefinition]) -> None:
    from wolfbane.reports.console.steps import near_duplicates
    from wolfbane.reports.text import visible

    alike = list(near_duplicates(shown))
    for one, other in alike[:_MOST]:
        echo(
            f"near duplicates: '{visible(one.pattern)}' ({one.location}) "
            f"and '{visible(other.pattern)}' ({other.location})"
        )
    if len(alike) > _MOST:
        echo(f"and {len(alike) - _MOST:,} more pairs of near duplicates")


_MOST = 10


def _suites(workspace: Workspace, names: tuple[str, ...]) -> list[Suite]:
    """The selected scenario suites. Raises InputError."""
    with_steps = [name for name, _ in kinds_with(HasSteps)]  # type: ignore[type-abstract]
    known = {suite.name: suite for suite in workspace.suites if suite.kind in with_steps}
    if not known:
        raise InputError(Problem("this workspace has no scenario suites, so there are no steps"))
    for name in names:
        if name not in known:
            hint = did_you_mean(name, known)
            raise InputError(Problem(f"there is no scenario suite '{name}'", hint=hint))
    return [suite for name, suite in known.items() if not names or name in names]
