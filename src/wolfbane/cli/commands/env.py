"""``wolfbane env``."""

from __future__ import annotations

import json
from pathlib import Path

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.base_command import CommandGroup
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo, echo_json
from wolfbane.errors import InputError, Problem


@click.group("env", cls=CommandGroup)
def command() -> None:
    """Show the environments of the workspace, and their values.

    \b
    wolfbane env list
    wolfbane env show staging
    """


@command.command("list")
@workspace_option
def list_environments(workspace: Path | None) -> None:
    """List the environments of the workspace."""
    from wolfbane.reports.console.resources import environment_lines

    opened = workspace_at(workspace)
    if not opened.settings.env:
        echo("no environment is declared; add [env.NAME] to wolfbane.toml", err=True)
        return
    echo("\n".join(environment_lines(opened)))


@command.command("show")
@click.argument("name", default="", shell_complete=completion_sources.environments)
@click.option(
    "--set",
    "values",
    multiple=True,
    metavar="KEY=VALUE",
    help="As in 'wolfbane run'.",
    shell_complete=completion_sources.settings,
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
def show(name: str, values: tuple[str, ...], form: str, workspace: Path | None) -> None:
    """Show the values of an environment and their sources.

    Default: the workspace's default environment. Runs the commands that values come from.
    """
    from wolfbane.environments import resolve
    from wolfbane.reports.console.resources import as_data, value_lines

    opened = workspace_at(workspace)
    if not opened.settings.param:
        raise InputError(Problem("no parameter is declared; add [param.NAME] to wolfbane.toml"))
    environment = resolve(opened, name, values)
    if form == "json":
        echo_json(json.dumps(as_data(environment), indent=1))
        return
    unset = [name for name in opened.settings.param if name not in environment.values]
    echo("\n".join(value_lines(environment, unset)))
