"""The options ``--at`` and ``--settings``, which take suites from a git revision."""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.values import filled
from wolfbane.cli.options.workspace_option import workspace_at
from wolfbane.errors import InputError, Problem
from wolfbane.workspace.suite_source import HERE, THERE

if TYPE_CHECKING:
    from wolfbane.environments import Environment
    from wolfbane.workspace.settings import Workspace


def revision_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """``--at`` and ``--settings``, for a command that opens its workspace with ``at_revision``."""

    @functools.wraps(command)
    def wrapped(at: str, settings: str | None, **options: Any) -> Any:
        return command(**options)

    decorated: Callable[..., Any] = click.option(
        "--settings",
        type=click.Choice((THERE, HERE)),
        help="With --at: use the suites' settings from the revision "
        "(there) or from the workspace (here). [default: there]",
    )(wrapped)
    return click.option(
        "--at",
        metavar="REV",
        default="",
        shell_complete=completion_sources.revisions,
        callback=filled,
        help="Take the suites from this git revision: a tag, a branch, or a commit.",
    )(decorated)


def at_revision(here: Workspace) -> Workspace:
    """The workspace of a command, with the suites of its ``--at`` if it has one."""
    params = click.get_current_context().params
    revision, settings = params.get("at", ""), params.get("settings")
    if not revision:
        if settings:
            raise InputError(Problem("--settings needs --at"))
        return here
    from wolfbane.app.deployed import DEPLOYED, deployed_revision
    from wolfbane.workspace.at_revision import open_at

    if revision == DEPLOYED:
        revision = deployed_revision(here, _the_one(params, here))
    return open_at(here, revision, settings or THERE)


def each_deployed(params: Mapping[str, Any]) -> dict[str, str]:
    """The revision of each environment, for a command with ``--at deployed`` and several
    environments.

    Empty for all other commands. Raises InputError and BlockedError.
    """
    if not params["at"]:
        return {}
    from wolfbane.app.deployed import DEPLOYED, deployed_revision

    if params["at"] != DEPLOYED:
        return {}

    folder = params["workspace"]
    here = workspace_at(folder)
    by_name = _by_name(params, here)
    if len(by_name) < 2:
        return {}
    return {name: deployed_revision(here, each) for name, each in by_name.items()}


def _the_one(params: Mapping[str, Any], here: Workspace) -> Environment:
    by_name = _by_name(params, here)
    if len(by_name) > 1:
        names = ", ".join(by_name)
        raise InputError(
            Problem("--at deployed: give only one environment", hint=f"these were given: {names}")
        )
    return next(iter(by_name.values()))


def _by_name(params: Mapping[str, Any], here: Workspace) -> dict[str, Environment]:
    from wolfbane.cli.options.target_options import point_at

    return {each.name: each for each in point_at(here, params)}
