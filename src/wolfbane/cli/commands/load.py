"""``wolfbane load``."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from wolfbane.app.load import carry_out_load, look_at_load
from wolfbane.cli.options.arguments import EXPANDED, PresetCommand, preset_option
from wolfbane.cli.options.print_command import typed
from wolfbane.cli.options.revision_options import revision_options
from wolfbane.cli.options.run_options import load_options, request_options
from wolfbane.cli.options.selection_options import opened_option, selection_options
from wolfbane.cli.options.target_options import one_environment_options
from wolfbane.cli.running import printed
from wolfbane.cli.streams import echo
from wolfbane.reports.console.style import make_console
from wolfbane.reports.load.tables import load_facts
from wolfbane.setup.run_request import RunRequest

if TYPE_CHECKING:
    from wolfbane.app.ready import ReadyRun
    from wolfbane.app.selection import Selected
    from wolfbane.cli.options.target_options import Point
    from wolfbane.load.load_request import LoadRequest
    from wolfbane.workspace.settings import Workspace


@click.command("load", cls=PresetCommand)
@selection_options
@revision_options
@opened_option
@one_environment_options
@load_options
@request_options(
    "jobs",
    "on",
    "timeout",
    "build",
    "documents",
    "reports",
    "mail_to",
    "mail_when",
    "quiet",
    "verbose",
    "dry_run",
)
@preset_option
@click.pass_context
def command(
    ctx: click.Context,
    select: Callable[..., Selected],
    point: Point,
    opened: Callable[[], Workspace],
    load: Callable[[Workspace], LoadRequest],
    request: RunRequest,
    presets: tuple[str, ...],
) -> None:
    """Load-test the selected API workflows with many concurrent users, and measure response times.

    A load test can only target this machine and hosts of an environment with 'load = true'. With
    --users, each user repeats all workflows. With --rate, workflows start at that rate, even if
    earlier ones are still running.

    \b
    wolfbane load --users 10 --for 30s
    wolfbane load --name bookBerth --rate 40/s --for 1m --limit 'p95 < 300ms'
    wolfbane load --users 50 --ramp 10s --for 2m --stop-if 'errors > 20%'
    wolfbane load --profile evening --samples errors
    wolfbane load --users 1 --loops 1 --dry-run
    wolfbane load --users 200 --for 1m --on tcp://quay-1.example:8786
    """
    from wolfbane.app.load import make_load_ready

    request = typed(request, command, ctx.meta[EXPANDED], name="load")
    workspace = opened()
    how = load(workspace)
    ready = make_load_ready(
        workspace, point(workspace), select, request=request, profile=how.profile
    )
    ctx.exit(load_and_print(ready, how))


command.examples = {"Select tests": "--suite workflows --drop name:pumpRuns"}


def load_and_print(ready: ReadyRun, load: LoadRequest) -> int:
    """Run a prepared load test, or print a preview; returns the exit code."""
    if ready.request.dry_run:
        console = make_console()
        started, wrong = look_at_load(ready, load)
        console.print(load_facts(started, console.reading_width), soft_wrap=True)
        for workflow, step in started.keys:
            echo(f"  {step}" if step else workflow)
        for address, outcome, message in wrong:
            echo(f"{outcome}  {address}: {message}")
        if wrong:
            return 1
        return 0
    return printed(ready, lambda report: carry_out_load(ready, load, report), every=load.every)
