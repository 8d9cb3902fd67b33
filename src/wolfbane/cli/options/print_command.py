"""Prints a run as the command line that was typed."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options.arguments import SET, Piece, pointing
from wolfbane.cli.options.quoting import quoted
from wolfbane.cli.streams import echo
from wolfbane.environments.mask import HIDDEN

if TYPE_CHECKING:
    from wolfbane.setup.run_request import RunRequest
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
    inside = "."
    if folder.is_relative_to(home):
        inside = folder.relative_to(home).as_posix()
    paths = click.get_current_context().params["paths"]
    lines = any(re.fullmatch(r"[^#]+:\d+", path) for path in paths)
    return replace(request, arguments=tuple(arguments), folder=inside, pinned=lines)


def print_line(workspace: Workspace, pieces: Iterable[Piece], shell: str) -> None:
    """The whole run as one line for a shell, with masked secrets.

    It reads the settings and nothing else: no value of a parameter is looked up.
    """
    parameters = workspace.settings.param
    shown: list[str] = []
    masked = False
    for piece in pieces:
        name, equals, value = piece.value.partition("=")
        declared = None
        if piece.option == SET:
            declared = parameters.get(name)
        if declared is not None and declared.secret and equals and not value.startswith("@"):
            shown += [SET, f"{name}={HIDDEN}"]
            masked = True
        else:
            shown += piece.tokens
    echo(quoted(["wolfbane", "run", *shown], shell))
    if masked:
        echo("wolfbane: this line contains a masked secret", err=True)
