"""``wolfbane run``."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import click
from click.core import ParameterSource

from wolfbane.cli.arguments import EXPANDED, PresetCommand, preset_option, without
from wolfbane.cli.print_command import print_line, typed
from wolfbane.cli.quoting import SHELLS
from wolfbane.cli.run_options import request_options
from wolfbane.cli.selection_options import opened_option, selection_options
from wolfbane.cli.target_options import environment_options
from wolfbane.errors import InputError, Problem
from wolfbane.execution.run_request import RunRequest

if TYPE_CHECKING:
    from wolfbane.app.selection import Selected
    from wolfbane.cli.target_options import Point
    from wolfbane.workspace.settings import Workspace


@click.command("run", cls=PresetCommand)
@selection_options
@opened_option
@environment_options
@request_options()
@preset_option
@click.option("--print-command", is_flag=True, help="Print this run as one line, and run nothing.")
@click.option(
    "--shell", type=click.Choice(SHELLS), help="Quote that line for this shell. [default: posix]"
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
    """Choose tests and run them.

    PATH is a file, a folder, a glob, FILE:LINE or an address; several are a union. Values of
    one option are alternatives, different options narrow each other.

    \b
    wolfbane run                              everything
    wolfbane run tests/tides --tag smoke      the smoke tests of one folder
    wolfbane run --pick 'tag:smoke and not owner:quay'
    wolfbane run tests/tides/test_heights.py:14
    wolfbane run --status failed              what failed when last run
    wolfbane run --env staging --set machine=crane-2
    wolfbane run --env local,staging          once in each, side by side
    wolfbane run --browser firefox --log protocol
    wolfbane run --preset nightly --jobs 4    saved arguments, and more
    """
    if request.seed is not None and request.order != "random":
        raise InputError(Problem("--seed needs --order random"))
    if not request.mail_to and ctx.get_parameter_source("mail_when") is ParameterSource.COMMANDLINE:
        raise InputError(Problem("--mail-when needs --mail-to"))
    if shell and not print_command:
        raise InputError(Problem("--shell needs --print-command"))
    arguments = without(command, ctx.meta[EXPANDED], "--print-command", "--shell")
    if print_command:
        print_line(select(), point, arguments, shell or "posix")
        return
    from wolfbane.app.ready import make_ready

    request = typed(request, command, arguments)
    workspace = opened()
    ready = make_ready(workspace, point(workspace), lambda: select(workspace), request)
    from wolfbane.cli.running import run_and_print  # it takes a while: not where nothing is chosen

    ctx.exit(run_and_print(ready))
