"""The options that say what a run is pointed at: ``--env`` and ``--set``."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any

import click

from wolfbane.environments import Environment, resolve
from wolfbane.workspace.settings import Workspace

Point = Callable[[Workspace], Environment]


def environment_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """``--env`` and ``--set``; the command gets them as ``point``, which works them out."""

    @functools.wraps(command)
    def wrapped(environment: str, values: tuple[str, ...], **options: Any) -> Any:
        return command(point=lambda workspace: resolve(workspace, environment, values), **options)

    decorated: Callable[..., Any] = click.option(
        "--set", "values", multiple=True, metavar="KEY=VALUE",
        help="Give a parameter a value, or KEY=@FILE a file's content.",
    )(wrapped)  # fmt: skip
    return click.option(
        "--env", "environment", metavar="NAME", default="",
        help="The environment to run against. [default: the workspace's]",
    )(decorated)  # fmt: skip
