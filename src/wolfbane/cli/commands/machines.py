"""``wolfbane machines``."""

from __future__ import annotations

import json
from pathlib import Path

import click
from msgspec import to_builtins

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo, echo_json


@click.command("machines", cls=Command)
@click.option(
    "--on",
    "on",
    metavar="ADDRESS",
    default="",
    help="The scheduler of the cluster: tcp://HOST:PORT. [default: the address in [cluster]]",
)
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="The output format.",
)
@workspace_option
@click.pass_context
def command(ctx: click.Context, on: str, form: str, workspace: Path | None) -> None:
    """Show the machines of a cluster, and which suites and browsers each machine can run.

    Exits 4 if there is a suite that no machine can run.

    \b
    wolfbane machines --on tcp://quay-1.example:8786
    wolfbane machines --as json
    """
    from wolfbane.app.machines import look_at_machines
    from wolfbane.reports.console.layout import fitted
    from wolfbane.reports.console.resources import machine_problems, machine_table
    from wolfbane.reports.console.style import make_console

    opened = workspace_at(workspace)
    machines = look_at_machines(opened, on)
    names, able = [each.name for each in machines], [each.abilities for each in machines]
    if form == "json":
        echo_json(json.dumps([to_builtins(machine) for machine in machines], indent=1))
    elif not machines:
        echo("no machine is connected to the scheduler", err=True)
    else:
        console = make_console()
        slots, facts = [each.slots for each in machines], [each.facts for each in machines]
        for part in fitted(
            console, machine_table(names, slots, facts, abilities=able), console.width
        ):
            console.print(part)
        for line in machine_problems(names, [each.problem for each in machines], able):
            console.print(line, soft_wrap=True)
    served = {name for each in able if each for name in each.runtimes}
    ctx.exit(0 if served >= {suite.name for suite in opened.suites} else 4)
