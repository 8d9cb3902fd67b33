"""The option ``--workspace``, and the workspace that it selects."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wolfbane.cli.options.path_completion import on_disk
from wolfbane.cli.options.values import FilledPath

if TYPE_CHECKING:
    from wolfbane.workspace.settings import Workspace

_ALL = "wolfbane.all_workspaces"


def workspace_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """``--workspace FOLDER``."""
    return click.option(
        "-w",
        "--workspace",
        "workspace",
        metavar="FOLDER",
        type=FilledPath(path_type=Path),
        shell_complete=on_disk("wolfbane.toml"),
        help="The workspace folder, or its wolfbane.toml. "
        "[default: the nearest one in this folder or above]",
    )(command)


def workspace_at(folder: Path | None) -> Workspace:
    """The workspace from ``--workspace``; without it, the nearest one in this folder or above."""
    from wolfbane.workspace.find import open_workspace

    return open_workspace(folder or Path.cwd(), given=folder is not None)


def workspace_or_all_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """``--workspace FOLDER``, or ``all``: then the folder is empty, and ``all_workspaces`` true."""

    def noted(ctx: click.Context, param: click.Parameter, value: Path | None) -> Path | None:
        ctx.meta[_ALL] = value == Path("all")
        if ctx.meta[_ALL]:
            return None
        return value

    return click.option(
        "-w",
        "--workspace",
        "workspace",
        metavar="FOLDER",
        type=FilledPath(path_type=Path),
        callback=noted,
        shell_complete=on_disk("wolfbane.toml"),
        help="The workspace folder, or its wolfbane.toml. 'all' means every workspace "
        "in the history. [default: the nearest one in this folder or above]",
    )(command)


def all_workspaces() -> bool:
    """Whether the command is for all workspaces."""
    return bool(click.get_current_context().meta.get(_ALL))
