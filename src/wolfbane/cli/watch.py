"""``wolfbane watch``."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from wolfbane.cli import completion_sources
from wolfbane.cli.arguments import EXPANDED, PresetCommand, pointing
from wolfbane.cli.selection_options import opened_option, selection_options
from wolfbane.cli.target_options import environment_options
from wolfbane.cli.values import duration

if TYPE_CHECKING:
    from wolfbane.cli.selection_options import Selected
    from wolfbane.cli.target_options import Point
    from wolfbane.workspace.settings import Workspace


@click.command("watch", cls=PresetCommand)
@selection_options
@opened_option
@environment_options
@click.option(
    "-j", "--jobs", type=click.IntRange(1), metavar="N", help="Workers at once. [default: cores]"
)
@click.option("--timeout", callback=duration, metavar="TIME", help="Limit for each test: 30s, 2m.")
@click.option(
    "--preset", "presets", multiple=True, metavar="NAME|PATH",
    shell_complete=completion_sources.presets,
    help="Saved arguments, by name or in a file; what else is given adds to them.",
)  # fmt: skip
@click.option("-v", "--verbose", is_flag=True, help="Each test, whole traces and outputs.")
@click.pass_context
def command(
    ctx: click.Context,
    select: Callable[[], Selected],
    point: Point,
    opened: Callable[[], Workspace],
    jobs: int | None,
    timeout: float | None,
    presets: tuple[str, ...],
    verbose: bool,
) -> None:
    """Run the tests that are affected by each file you save, until you quit.

    These are the tests in the file, the tests that import it (Python and JavaScript), and all
    tests of a suite that names it among its inputs. Tests that failed run first. Keys: a runs
    all, f runs what failed, s asks for another selection, q quits.

    \b
    wolfbane watch
    wolfbane watch tests/tides --drop tag:slow
    """
    from wolfbane.cli.before_run import RunRequest
    from wolfbane.cli.watching import Watch

    arguments = ctx.meta[EXPANDED]
    asked = RunRequest(
        arguments, jobs, timeout, verbose=verbose, failed_first=True,
        pointed=pointing(command, arguments), told=set(),
    )  # fmt: skip
    Watch(opened, select, point, asked).keep_on()
