"""Prints a run as the command line that was typed."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.arguments import pointing
from wolfbane.cli.quoting import quoted

if TYPE_CHECKING:
    from wolfbane.app.selection import Selected
    from wolfbane.cli.target_options import Point
    from wolfbane.execution.run_request import RunRequest
    from wolfbane.workspace.settings import Workspace


def typed(
    request: RunRequest, command: click.Command, arguments: Sequence[str], name: str = "run"
) -> RunRequest:
    """The request with the command line that was typed."""
    line = shlex.join(["wolfbane", name, *arguments])
    return replace(request, command=line, pointed=tuple(pointing(command, arguments)))


def repeatable(request: RunRequest, arguments: Sequence[str], workspace: Workspace) -> RunRequest:
    """The request with all facts about the command line that ``wolfbane again`` needs."""
    folder, home = Path.cwd().resolve(), workspace.home
    inside = folder.relative_to(home).as_posix() if folder.is_relative_to(home) else "."
    paths = click.get_current_context().params["paths"]
    lines = any(re.fullmatch(r"[^#]+:\d+", path) for path in paths)
    return replace(request, arguments=tuple(arguments), folder=inside, pinned=lines)


def print_line(selected: Selected, point: Point, arguments: Sequence[str], shell: str) -> None:
    """The whole run as one line for a shell, with masked secrets."""
    from wolfbane.environments import Mask

    environments = point(selected.inventory.workspace)
    mask = Mask(secret for environment in environments for secret in environment.secrets)
    shown = [mask(argument) for argument in arguments]
    click.echo(quoted(["wolfbane", "run", *shown], shell))
    if shown != list(arguments):
        click.echo("wolfbane: this line contains a masked secret", err=True)
