"""``wolfbane run``."""

from __future__ import annotations

import random
import shlex
import shutil
import sys
from collections.abc import Callable
from dataclasses import replace

import click

from wolfbane.cli.pointing import Point, environment_options
from wolfbane.cli.selecting import Selected, selection_options
from wolfbane.errors import InputError, Problem, WolfbaneError
from wolfbane.execution.building import ALWAYS, CHANGED, NEVER
from wolfbane.execution.processes import available_cores
from wolfbane.execution.recorded import run_recorded
from wolfbane.execution.run import Known, Options, Session
from wolfbane.reports.console import ConsoleReport
from wolfbane.reports.plan import print_plan
from wolfbane.reports.style import make_console
from wolfbane.reports.written import read_targets, write_reports
from wolfbane.results.runs import new_run
from wolfbane.workspace.settings import seconds


def _duration(ctx: click.Context, param: click.Parameter, value: str | None) -> float | None:
    if value is None:
        return None
    try:
        return seconds(value)
    except ValueError as error:
        raise click.BadParameter(str(error)) from None


@click.command("run")
@selection_options
@environment_options
@click.option("-j", "--jobs", type=click.IntRange(1), help="Workers at once. [default: cores]")
@click.option("--timeout", callback=_duration, metavar="TIME", help="Limit for each test: 30s, 2m.")
@click.option("--stop-after", type=click.IntRange(1), metavar="N", help="Stop after N failures.")
@click.option(
    "--order", type=click.Choice(["longest", "random"]), default="longest", show_default=True,
    help="The longest file first, or shuffled.",
)  # fmt: skip
@click.option(
    "--seed", type=int, help="The seed of a random order; printed, so it can be had again."
)
@click.option("--rebuild", "build", flag_value=ALWAYS, help="Build suites again, changed or not.")
@click.option("--no-build", "build", flag_value=NEVER, help="Build nothing, even what is stale.")
@click.option(
    "--no-focus", is_flag=True,
    help="Fail if the source marks tests as the only ones to run, and run the others too.",
)  # fmt: skip
@click.option("--dry-run", is_flag=True, help="Print the plan and run nothing.")
@click.option(
    "--report", "reports", multiple=True, metavar="FORMAT=PATH",
    help="Also write a report: xunit or json.",
)  # fmt: skip
@click.option("-q", "--quiet", is_flag=True, help="Only failures and the closing line.")
@click.option("-v", "--verbose", is_flag=True, help="Each test, whole traces and outputs.")
@click.pass_context
def command(
    ctx: click.Context,
    select: Callable[[], Selected],
    point: Point,
    jobs: int | None,
    timeout: float | None,
    stop_after: int | None,
    order: str,
    seed: int | None,
    build: str | None,
    no_focus: bool,
    dry_run: bool,
    reports: tuple[str, ...],
    quiet: bool,
    verbose: bool,
) -> None:
    """Choose tests and run them.

    PATH is a file, a folder, a glob, FILE:LINE or an address; several are a union. Values of
    one option are alternatives, different options narrow each other.

    \b
    wolfbane run                              everything
    wolfbane run tests/tides --tag smoke      the smoke tests of one folder
    wolfbane run --pick 'tag:smoke and not owner:quay'
    wolfbane run tests/tides/test_heights.py:41
    wolfbane run --status failed              what failed when last run
    wolfbane run --env staging --set machine=quay2
    """
    if seed is not None and order != "random":
        raise InputError(Problem("--seed needs --order random"))
    targets = read_targets(reports)
    selected = select()
    workspace = selected.inventory.workspace
    environments = point(workspace)
    settings = workspace.settings.workspace
    if order == "random" and seed is None:
        seed = random.SystemRandom().randrange(1_000_000)
    options = Options(
        jobs=jobs or settings.jobs or available_cores(),
        timeout=timeout,
        stop_after=stop_after,
        seed=seed,
        build=build or CHANGED,
        no_focus=no_focus,
        command=shlex.join(["wolfbane", *sys.argv[1:]]),
    )
    known = Known(selected.newest.status, selected.newest.times)
    folder = new_run(workspace.results)
    choice = replace(selected.choice, focus=selected.choice.focus and not no_focus)
    session = Session(selected.inventory, choice, options, known, environments, folder.name)
    console = make_console()
    report = ConsoleReport(console, quiet=quiet, verbose=verbose)
    try:
        if dry_run:
            print_plan(console, session.plan(folder), session.broken)
            shutil.rmtree(folder)
            ctx.exit(1 if session.broken else 0)
        session.listen(report)
        code, record = run_recorded(session, folder, selected.newest)
    except WolfbaneError:
        report.close()
        shutil.rmtree(folder)
        raise
    finally:
        report.close()
    write_reports(targets, record)
    ctx.exit(code)
