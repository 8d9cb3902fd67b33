"""The common options of all commands with a selection."""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.revision_options import at_revision
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.kinds.registry import KINDS
from wolfbane.selection.fields import FIELDS, Field

if TYPE_CHECKING:
    from wolfbane.app.selection import Selected
    from wolfbane.inventory.selection_request import SelectionRequest
    from wolfbane.workspace.settings import Workspace

_WITH_OPTION = [field for field in FIELDS.values() if field.help]
_KINDS = f"{', '.join(KINDS[:-1])} or {KINDS[-1]}"

SELECTION = frozenset(
    f"--{name}"
    for name in (*(f.name for f in _WITH_OPTION), "changed-unknown", "pick", "drop", "everything")
)
"""The options that select tests."""


def opened_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """Also gives a command ``opened``, a function that opens the workspace."""

    @functools.wraps(command)
    def wrapped(**options: Any) -> Any:
        workspace = click.get_current_context().params.get("workspace")
        return command(opened=lambda: _opened(workspace), **options)

    return wrapped


def selection_options(
    command: Callable[..., Any],
    option: Callable[[Callable[..., Any]], Callable[..., Any]] = workspace_option,
) -> Callable[..., Any]:
    """PATH..., the field options, ``--pick``, ``--drop``, ``--everything``, and ``option``.

    The command gets them as one ``select``, a function that checks the selection in a given
    workspace, or opens the workspace first.
    """

    @functools.wraps(command)
    def wrapped(
        paths: tuple[str, ...],
        pick: tuple[str, ...],
        drop: tuple[str, ...],
        everything: bool,
        changed_unknown: str,
        workspace: Path | None,
        **options: Any,
    ) -> Any:
        own = {_key(field): options.pop(_key(field)) for field in _WITH_OPTION}
        request = read_asked(
            {
                "paths": paths,
                "pick": pick,
                "drop": drop,
                "everything": everything,
                "changed_unknown": changed_unknown,
                **own,
            }
        )

        def select(opened: Workspace | None = None) -> Selected:
            return _select(request, opened or _opened(workspace))

        return command(select=select, **options)

    return option(_decorated(wrapped))


def _decorated(wrapped: Callable[..., Any]) -> Callable[..., Any]:
    """A command with the argument and the options of a selection."""
    decorated: Callable[..., Any] = click.argument(
        "paths", nargs=-1, metavar="[PATH]...", shell_complete=completion_sources.paths
    )(wrapped)
    for field in reversed(_WITH_OPTION):
        decorated = click.option(
            f"--{field.name}",
            _key(field),
            multiple=True,
            metavar="VALUE",
            help=field.help.format(kinds=_KINDS),
            shell_complete=completion_sources.of_field(field.name),
        )(decorated)
    decorated = click.option(
        "--changed-unknown",
        type=click.Choice(["name", "all"]),
        default="name",
        help="With --changed: name changed files that no test is known to use, or select all "
        "tests if there are any. [default: name]",
    )(decorated)
    decorated = click.option(
        "--pick",
        multiple=True,
        metavar="EXPR",
        shell_complete=completion_sources.expressions,
        help="Select only tests that match this expression: 'tag:a and not b'.",
    )(decorated)
    decorated = click.option(
        "--drop",
        multiple=True,
        metavar="EXPR",
        shell_complete=completion_sources.expressions,
        help="Exclude tests that match this expression.",
    )(decorated)
    return click.option(
        "--everything",
        is_flag=True,
        help="Ignore the leave_out setting and the focus marks in test sources.",
    )(decorated)


def read_asked(options: Mapping[str, Any]) -> SelectionRequest:
    """The selection in the options of a command."""
    from wolfbane.inventory.selection_request import SelectionRequest

    return SelectionRequest(
        paths=options["paths"],
        fields={field.name: options[_key(field)] for field in _WITH_OPTION},
        pick=options["pick"],
        drop=options["drop"],
        everything=options["everything"],
        changed_unknown=options["changed_unknown"],
    )


def _key(field: Field) -> str:
    """The parameter of a field's option. No other parameter begins like this."""
    return f"field_{field.name}"


def _opened(workspace: Path | None) -> Workspace:

    return at_revision(workspace_at(workspace))


def _select(request: SelectionRequest, workspace: Workspace) -> Selected:
    from wolfbane.app.selection import select

    return select(workspace, request, Path.cwd().resolve())
