"""``wolfbane run``."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click
from click.core import ParameterSource

from wolfbane.cli.options.arguments import (
    AT,
    ENV,
    EXPANDED,
    Piece,
    PresetCommand,
    joined,
    pieces_of,
    preset_option,
    without,
)
from wolfbane.cli.options.print_command import print_line, repeatable, typed
from wolfbane.cli.options.quoting import SHELLS
from wolfbane.cli.options.revision_options import each_deployed, revision_options
from wolfbane.cli.options.run_options import request_options
from wolfbane.cli.options.selection_options import opened_option, selection_options
from wolfbane.cli.options.target_options import environment_options
from wolfbane.cli.options.workspace_option import workspace_at
from wolfbane.errors import InputError, Problem
from wolfbane.setup.run_request import RunRequest

_TYPED = ParameterSource.COMMANDLINE
_WORST_FIRST = (130, 2, 4, 1, 3, 0)

if TYPE_CHECKING:
    from wolfbane.app.selection import Selected
    from wolfbane.cli.options.target_options import Point
    from wolfbane.workspace.settings import Workspace


@click.command("run", cls=PresetCommand)
@selection_options
@revision_options
@opened_option
@environment_options
@request_options()
@preset_option
@click.option(
    "--print-command",
    is_flag=True,
    help="Print the command for this run as one line. Nothing else happens.",
)
@click.option(
    "--shell",
    type=click.Choice(SHELLS),
    help="With --print-command: quote the line for this shell. [default: posix]",
)
@click.pass_context
def command(
    ctx: click.Context,
    select: Callable[..., Selected],
    point: Point,
    request: RunRequest,
    presets: tuple[str, ...],
    print_command: bool,
    shell: str | None,
    opened: Callable[[], Workspace],
) -> None:
    """Select tests and run them.

    PATH is a file, a folder, a glob, FILE:LINE or an address. Several paths add up (union). Several
    values of one option are alternatives (or); different options are combined (and).

    \b
    wolfbane run                              everything
    wolfbane run tests/tides --tag smoke      the smoke tests of one folder
    wolfbane run --pick 'tag:smoke and not owner:quay'
    wolfbane run tests/tides/test_heights.py:14
    wolfbane run --status failed              tests that failed when last run
    wolfbane run --env staging --set machine=crane-2
    wolfbane run --env local,staging          one run in each environment
    wolfbane run --browser firefox --log protocol
    wolfbane run --preset nightly --jobs 4    a preset, with one more option
    """
    _check_pairs(ctx, request)
    arguments = without(command, ctx.meta[EXPANDED], "--print-command", "--shell")
    if print_command:
        pieces = pieces_of(command, arguments)
        print_line(workspace_at(ctx.params["workspace"]), pieces, shell or "posix")
        return
    if several := each_deployed(ctx.params):
        ctx.exit(_one_after_another(arguments, several))
    from wolfbane.app.prewarm import with_head_start
    from wolfbane.app.ready import make_ready

    workspace = opened()
    request = repeatable(typed(request, command, arguments), arguments, workspace)
    with with_head_start(make_ready(workspace, point(workspace), select, request)) as ready:
        # It takes a while: the worker starts meanwhile.
        from wolfbane.cli.running import run_and_print

        ctx.exit(run_and_print(ready))


def _check_pairs(ctx: click.Context, request: RunRequest) -> None:
    """Reject options without the option that they need."""
    if request.seed is not None and request.order != "random":
        raise InputError(Problem("--seed needs --order random"))
    if not request.mail_to and ctx.get_parameter_source("mail_when") is _TYPED:
        raise InputError(Problem("--mail-when needs --mail-to"))
    if request.repeats and request.retries is not None:
        raise InputError(
            Problem("--repeat and --retries cannot be used together; use only one of them")
        )
    if not request.repeats and ctx.get_parameter_source("repeat_in") is _TYPED:
        raise InputError(Problem("--repeat-in needs --repeat or --repeat-for"))
    if ctx.params["shell"] and not ctx.params["print_command"]:
        raise InputError(Problem("--shell needs --print-command"))


def _one_after_another(arguments: Sequence[str], revisions: Mapping[str, str]) -> int:
    """One run for each environment with the suites of its revision; returns the worst exit code."""
    codes = []
    for name, revision in revisions.items():
        own = [
            _with_name(piece, name)
            for piece in pieces_of(command, arguments)
            if piece.option not in (AT, ENV)
        ]
        where = [Piece(ENV, (ENV, name)), Piece(AT, (AT, revision))]
        codes.append(command.main(joined([*where, *own]), standalone_mode=False))
    return next(code for code in _WORST_FIRST if code in codes)


def _with_name(piece: Piece, name: str) -> Piece:
    """A report for one of several environments contains the environment in its file name."""
    if piece.option != "--report":
        return piece
    path = Path(piece.value)
    return Piece(piece.option, (piece.option, str(path.with_stem(f"{path.stem}-{name}"))))
