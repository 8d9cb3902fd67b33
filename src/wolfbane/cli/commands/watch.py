"""``wolfbane watch``."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options.arguments import EXPANDED, PresetCommand, preset_option
from wolfbane.cli.options.print_command import typed
from wolfbane.cli.options.run_options import request_options
from wolfbane.cli.options.selection_options import opened_option, selection_options
from wolfbane.cli.options.target_options import environment_options
from wolfbane.setup.run_request import RunRequest

if TYPE_CHECKING:
    from wolfbane.app.selection import Selected
    from wolfbane.cli.options.target_options import Point
    from wolfbane.workspace.settings import Workspace


@click.command("watch", cls=PresetCommand)
@selection_options
@opened_option
@environment_options
@request_options("jobs", "timeout", "verbose")
@preset_option
@click.pass_context
def command(
    ctx: click.Context,
    select: Callable[[], Selected],
    point: Point,
    opened: Callable[[], Workspace],
    request: RunRequest,
    presets: tuple[str, ...],
) -> None:
    """Run the affected tests each time you save a file, until you quit.

    Affected tests are the tests in the file, the tests that import it (Python and JavaScript), and
    all tests of a suite that lists the file in its inputs. Previously failed tests run first. Keys:
    'a' runs all tests, 'f' runs the failed tests, 's' asks for a new selection, 'q' quits.

    \b
    wolfbane watch
    wolfbane watch tests/tides --drop tag:slow
    """
    from wolfbane.app.watch import WatchedSelection
    from wolfbane.cli.watching import WatchLoop

    request = typed(replace(request, order="failed"), command, ctx.meta[EXPANDED])
    WatchLoop(WatchedSelection(opened, select, point, request=request)).keep_on()
