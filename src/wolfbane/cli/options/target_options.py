"""The options that set a run's environment: ``--env``, ``--set`` and ``--spread``."""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.values import filled

if TYPE_CHECKING:
    from wolfbane.environments import Environment
    from wolfbane.workspace.settings import Workspace

    Point = Callable[[Workspace], list[Environment]]


def environment_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """``--env``, ``--set``, ``--spread``. The command gets them as ``point``.

    Called with the workspace, it resolves the environments: several if several are named. Addresses
    among the paths that end in ``@LABEL`` also name environments.
    """

    @functools.wraps(command)
    def wrapped(
        environment: str, values: tuple[str, ...], spread: tuple[str, ...], **options: Any
    ) -> Any:
        paths = click.get_current_context().params.get("paths", ())

        def point(workspace: Workspace) -> list[Environment]:
            return _point(workspace, environment, values, spread=spread, paths=paths)

        return command(point=point, **options)

    return _env_and_set(
        ", or several: a,b",
        click.option(
            "--spread",
            multiple=True,
            metavar="KEY",
            shell_complete=completion_sources.parameters,
            help="Run once for each value of this parameter: --set machine=a,b --spread machine.",
        )(wrapped),
    )


def one_environment_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """``--env`` and ``--set`` for a command that works in one environment only."""

    @functools.wraps(command)
    def wrapped(environment: str, values: tuple[str, ...], **options: Any) -> Any:
        def point(workspace: Workspace) -> list[Environment]:
            label = _point(workspace, environment, values, spread=(), paths=())
            if len(label) > 1:
                raise click.BadParameter("give only one environment", param_hint="--env")
            return label

        return command(point=point, **options)

    return _env_and_set("", wrapped)


def _env_and_set(several: str, command: Callable[..., Any]) -> Callable[..., Any]:
    decorated: Callable[..., Any] = click.option(
        "--set",
        "values",
        multiple=True,
        metavar="KEY=VALUE",
        shell_complete=completion_sources.settings,
        help="Set a parameter to a value. KEY=@FILE uses the content of a file.",
    )(command)
    return click.option(
        "--env",
        "environment",
        metavar="NAME",
        default="",
        shell_complete=completion_sources.environments,
        callback=filled,
        help=f"The environment to run in{several}. [default: the workspace's default]",
    )(decorated)


def status_labels(workspace: Workspace) -> list[str]:
    """The environments of a command's ``status:`` terms; "" for runs without one.

    Outcomes belong to a test in an environment: a test that failed in two environments runs again
    in both. Empty if the selection has no such term, or if all tests ended in the default
    environment.
    """
    from wolfbane.environments.labels import read_labels
    from wolfbane.selection import field_terms, parse, wanted_outcomes

    params = click.get_current_context().params
    parts = [parse(text) for text in params.get("pick", ())]
    if values := params.get("field_status", ()):
        parts.append(field_terms("status", values))
    wanted = wanted_outcomes(parts)
    if wanted is None:
        return []
    from wolfbane.results.history.opening import newest_outcomes  # a database takes a while

    recorded = newest_outcomes(workspace).environments(wanted)
    labels = [label for label in recorded if not label or read_labels(workspace, [_at(label)])]
    if labels != [workspace.settings.workspace.env]:
        return labels
    return []


def point_at(workspace: Workspace, params: Mapping[str, Any]) -> list[Environment]:
    """The environments that the parameters of a command select; the default one without any."""
    return _point(
        workspace,
        params.get("environment", ""),
        params.get("values", ()),
        spread=params.get("spread", ()),
        paths=params.get("paths", ()),
    )


def _at(label: str) -> str:
    """An address that ends with a label."""
    return f"status @{label}"


def _point(
    workspace: Workspace,
    names: str,
    values: Sequence[str],
    spread: Sequence[str],
    paths: Sequence[str],
) -> list[Environment]:
    from wolfbane.environments import resolve_each
    from wolfbane.environments.labels import read_labels

    labels = read_labels(workspace, paths)
    if labels and not names and not spread:
        return labels.resolve(workspace, values)
    if not names and not spread and (recorded := status_labels(workspace)):
        if "" in recorded:
            plain = resolve_each(workspace, "", values)
        else:
            plain = []
        labels = read_labels(workspace, [_at(label) for label in recorded if label])
        return [*plain, *labels.resolve(workspace, values)]
    return resolve_each(workspace, names, values, spread=spread, labelled=bool(labels))
