"""Checks whether saved arguments are still valid.

Used when a preset is saved, and by ``doctor``.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence

import click
import msgspec

from wolfbane.cli.commands.run import command as run
from wolfbane.cli.options.arguments import ENV, SET, SPREAD, expanded, pieces_of
from wolfbane.cli.options.selection_options import read_asked
from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.inventory import Inventory
from wolfbane.inventory.selection_request import read_choice
from wolfbane.selection import term_counts
from wolfbane.workspace.settings import Workspace


class Checked(msgspec.Struct, frozen=True):
    """The result of a check: ``wrong`` must be fixed; ``unused`` terms currently match no test."""

    wrong: tuple[str, ...] = ()
    unused: tuple[str, ...] = ()


def check_run_arguments(inventory: Inventory, arguments: Sequence[str]) -> Checked:
    """Check the options, names and terms of a run. A name may belong to a future test."""
    workspace = inventory.workspace
    options = ["--workspace", str(workspace.file or workspace.root)]
    try:
        context = run.make_context("run", [*options, *arguments])
        whole = expanded(run, [*options, *arguments])
        choice = read_choice(read_asked(context.params), inventory, workspace.root)
    except click.UsageError as error:
        return Checked((error.format_message(),))
    except InputError as error:
        return Checked(tuple(str(problem) for problem in error.problems))
    counts = [
        count
        for expression in (choice.expression, *choice.drops)
        for count in term_counts(expression, inventory.tests, {})
        if not count.matches and count.term.field != "status"
    ]
    typos = [count for count in counts if count.hint and count.term.field != "name"]
    return Checked(
        (*map(str, _unknown_names(workspace, whole)), *map(str, typos)),
        tuple(str(count) for count in counts if count not in typos),
    )


def _unknown_names(workspace: Workspace, arguments: Sequence[str]) -> Iterator[Problem]:
    """Environments and parameters that the settings do not contain."""
    settings = workspace.settings
    for piece in pieces_of(run, arguments):
        if piece.option == ENV:
            names = [name.strip() for name in piece.value.split(",")]
            yield from _unknown("environment", names, settings.env)
        elif piece.option in (SET, SPREAD):
            yield from _unknown("parameter", [piece.value.partition("=")[0]], settings.param)


def _unknown(what: str, names: Sequence[str], known: Collection[str]) -> Iterator[Problem]:
    for name in names:
        if name not in known:
            yield Problem(f"there is no {what} '{name}'", hint=did_you_mean(name, known))
