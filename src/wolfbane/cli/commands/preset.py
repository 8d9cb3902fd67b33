"""``wolfbane preset``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from wolfbane.cli.commands.run import command as run
from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.arguments import WORKSPACE, expanded, pieces_of, without
from wolfbane.cli.options.base_command import CommandGroup
from wolfbane.cli.options.quoting import quoted
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo
from wolfbane.errors import InputError, Problem
from wolfbane.reports.text import aligned
from wolfbane.workspace.presets import (
    all_presets,
    delete_preset,
    find_preset,
    personal_file,
    save_preset,
)
from wolfbane.workspace.settings import Workspace


@click.group("preset", cls=CommandGroup)
def command() -> None:
    """Save the arguments of a run under a name.

    \b
    wolfbane preset save nightly -- --tag slow --env staging
    wolfbane run --preset nightly --jobs 4
    wolfbane preset list
    """


@command.command("save")
@click.argument("name")
@click.argument("arguments", nargs=-1, type=click.UNPROCESSED, metavar="-- ARGUMENTS...")
@click.option(
    "--help-text", "description", metavar="TEXT", default="", help="A description of the preset."
)
@click.option(
    "--personal", is_flag=True, help="Save the preset in your own settings, for all workspaces."
)
@click.option("--replace", is_flag=True, help="Replace an existing preset of the same name.")
@workspace_option
def save(
    name: str,
    arguments: tuple[str, ...],
    description: str,
    personal: bool,
    replace: bool,
    workspace: Path | None,
) -> None:
    """Save arguments of 'wolfbane run'. They are checked before they are saved.

    \b
    wolfbane preset save nightly -- --tag slow --env staging
    wolfbane preset save mine --personal -- --preset nightly --quiet
    """
    opened = workspace_at(workspace)
    if not arguments:
        raise InputError(
            Problem(f"no arguments given; for example: wolfbane preset save {name} -- --tag smoke")
        )
    check_arguments(opened, arguments)
    known = all_presets(opened).get(name)
    kept = personal_file() if personal else opened.file
    if known is not None and known.file == kept and not replace:
        shown = _place(opened, known.file)
        raise InputError(
            Problem(
                f"preset '{name}' already exists in {shown}", hint="use --replace to overwrite it"
            )
        )
    file = save_preset(opened, name, arguments, description=description, personal=personal)
    echo(f"saved in {_place(opened, file)}; use it with: wolfbane run --preset {name}")


@command.command("list")
@workspace_option
def list_presets(workspace: Path | None) -> None:
    """List all presets with their arguments and the file each is saved in."""
    opened = workspace_at(workspace)
    presets = all_presets(opened).values()
    if not presets:
        echo("there are no presets; see 'wolfbane preset save --help'", err=True)
        return
    rows = []
    for preset in presets:
        file = _place(opened, preset.file)
        rows.append((preset.name, preset.help or quoted(preset.arguments, "posix"), file))
    echo("\n".join(aligned(rows)))


@command.command("show")
@click.argument("name", shell_complete=completion_sources.presets)
@workspace_option
def show(name: str, workspace: Path | None) -> None:
    """Show the arguments of a preset, and the complete command with the presets it includes."""
    opened = workspace_at(workspace)
    preset = find_preset(opened, name)
    whole = expanded(run, ["--workspace", str(opened.file or opened.root), "--preset", name])
    whole = without(run, whole, WORKSPACE)
    rows = [("preset", preset.name)]
    if preset.help:
        rows += [("help", preset.help)]
    rows += [
        ("arguments", quoted(preset.arguments, "posix")),
        ("saved in", _place(opened, preset.file)),
        ("runs", quoted(["wolfbane", "run", *whole], "posix")),
    ]
    echo("\n".join(aligned(rows)))


@command.command("delete")
@click.argument("name", shell_complete=completion_sources.presets)
@workspace_option
def delete(name: str, workspace: Path | None) -> None:
    """Delete a preset."""
    opened = workspace_at(workspace)
    echo(f"deleted preset {name} from {_place(opened, delete_preset(opened, name))}")


def check_arguments(workspace: Workspace, arguments: Sequence[str]) -> None:
    """Whether they are arguments of a run without secrets. Raises InputError."""
    from wolfbane.cli.options.preset_checks import check_run_arguments
    from wolfbane.inventory import open_inventory

    checked = check_run_arguments(open_inventory(workspace), arguments)
    if checked.wrong:
        raise InputError(*(Problem(f"wolfbane run: {message}") for message in checked.wrong))
    for unused in checked.unused:
        echo(f"wolfbane: {unused}", err=True)
    for piece in pieces_of(run, arguments):
        name, _, value = piece.value.partition("=")
        parameter = None
        if piece.option == "--set":
            parameter = workspace.settings.param.get(name)
        if parameter is not None and parameter.secret and not value.startswith("@"):
            hint = f"use a file: --set {name}=@FILE, or set the value in an environment"
            raise InputError(
                Problem(f"'{name}' is a secret and cannot be saved in a preset", hint=hint)
            )


def _place(workspace: Workspace, file: Path) -> str:
    if file == workspace.file:
        return file.name
    return str(file).replace(str(Path.home()), "~", 1)
