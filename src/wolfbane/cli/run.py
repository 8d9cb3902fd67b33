"""``wolfbane run``."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import click
from click.core import ParameterSource

from wolfbane.browsers.evidence_policy import FAILURES, KEPT
from wolfbane.cli import completion_sources
from wolfbane.cli.arguments import EXPANDED, PresetCommand, pointing, without
from wolfbane.cli.disk_words import reports as reports_words
from wolfbane.cli.quoting import SHELLS
from wolfbane.cli.selection_options import opened_option, selection_options
from wolfbane.cli.target_options import environment_options
from wolfbane.cli.values import duration
from wolfbane.errors import InputError, Problem
from wolfbane.kinds.documents import Freshness
from wolfbane.reports.formats import NAMES

if TYPE_CHECKING:
    from wolfbane.cli.selection_options import Selected
    from wolfbane.cli.target_options import Point
    from wolfbane.workspace.settings import Workspace


@click.command("run", cls=PresetCommand)
@selection_options
@opened_option
@environment_options
@click.option(
    "-j", "--jobs", type=click.IntRange(1), metavar="N", help="Workers at once. [default: cores]"
)
@click.option("--timeout", callback=duration, metavar="TIME", help="Limit for each test: 30s, 2m.")
@click.option("--stop-after", type=click.IntRange(1), metavar="N", help="Stop after N failures.")
@click.option(
    "--retries", type=click.IntRange(0), metavar="N", help="Run what fails again, N times at most."
)
@click.option(
    "--retry-when", type=click.Choice(["after", "at-once"]), default="after", show_default=True,
    help="When: after all others, or as soon as their file is through.",
)  # fmt: skip
@click.option("--flaky-fails", is_flag=True, help="Exit 1 if a test passed only when run again.")
@click.option(
    "--quarantine", type=click.Choice(["run", "skip"]), default="run", show_default=True,
    help="Run quarantined tests, which do not fail the run, or leave them out.",
)  # fmt: skip
@click.option(
    "--order", type=click.Choice(["longest", "failed", "random"]), default="longest",
    show_default=True, help="The longest file first, or what failed when last run, or shuffled.",
)  # fmt: skip
@click.option(
    "--seed", type=int, metavar="N", help="The seed of a random order; each run prints its own."
)
@click.option("--rebuild", "build", flag_value="always", help="Build suites again, changed or not.")
@click.option("--no-build", "build", flag_value="never", help="Build nothing, even what is stale.")
@click.option(
    "--no-focus", is_flag=True,
    help="Fail if the source marks tests as the only ones to run, and run the others too.",
)  # fmt: skip
@click.option("--dry-run", is_flag=True, help="Print the plan and run nothing.")
@click.option(
    "--report", "reports", multiple=True, metavar="FORMAT=PATH", shell_complete=reports_words,
    help=f"Also write a report: {', '.join(NAMES[:-1])} or {NAMES[-1]}.",
)  # fmt: skip
@click.option(
    "--mail-to",
    multiple=True,
    metavar="ADDRESS",
    help="Mail the result and the report to this address, or to several: a@x, Name <b@x>.",
)
@click.option(
    "--mail-when", type=click.Choice(["always", "changed"]), default="always", show_default=True,
    help="Always, or only if the result differs from the run before.",
)  # fmt: skip
@click.option(
    "--preset", "presets", multiple=True, metavar="NAME|PATH",
    shell_complete=completion_sources.presets,
    help="Saved arguments, by name or in a file; what else is given adds to them.",
)  # fmt: skip
@click.option("--print-command", is_flag=True, help="Print this run as one line, and run nothing.")
@click.option(
    "--shell", type=click.Choice(SHELLS), help="Quote that line for this shell. [default: posix]"
)
@click.option(
    "--refresh", "documents", flag_value="refresh",
    help="Fetch documents that are given by URL anew, rather than use their copies.",
)  # fmt: skip
@click.option(
    "--offline", "documents", flag_value="offline", help="Use the copies, and look no further."
)
@click.option(
    "--evidence", type=click.Choice(KEPT), default=FAILURES, show_default=True,
    help="Which browser tests keep screenshots, page sources and command logs.",
)  # fmt: skip
@click.option("--visible", is_flag=True, help="Show the browsers, where there is a screen.")
@click.option(
    "--log", "logs", multiple=True, type=click.Choice(["protocol"]),
    help="Print each command to a browser as a sentence.",
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
    retries: int | None,
    retry_when: str,
    flaky_fails: bool,
    quarantine: str,
    order: str,
    seed: int | None,
    build: str | None,
    no_focus: bool,
    dry_run: bool,
    reports: tuple[str, ...],
    mail_to: tuple[str, ...],
    mail_when: str,
    presets: tuple[str, ...],
    print_command: bool,
    shell: str | None,
    quiet: bool,
    verbose: bool,
    documents: str | None,
    evidence: str,
    visible: bool,
    logs: tuple[str, ...],
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
    wolfbane run --env local,staging          once against each, side by side
    wolfbane run --browser firefox --log protocol
    wolfbane run --preset nightly --jobs 4    saved arguments, and more
    """
    from wolfbane.cli.before_run import RunRequest, make_ready, print_line

    if seed is not None and order != "random":
        raise InputError(Problem("--seed needs --order random"))
    if not mail_to and ctx.get_parameter_source("mail_when") is ParameterSource.COMMANDLINE:
        raise InputError(Problem("--mail-when needs --mail-to"))
    if shell and not print_command:
        raise InputError(Problem("--shell needs --print-command"))
    arguments = without(command, ctx.meta[EXPANDED], "--print-command", "--shell")
    if print_command:
        print_line(select(), point, arguments, shell or "posix")
        return
    asked = RunRequest(
        arguments, jobs, timeout, stop_after, seed, order == "random", build or "changed",
        no_focus, dry_run, reports, quiet, verbose, Freshness(documents or "compare"),
        evidence, visible, frozenset(logs), retries, retry_when == "at-once", flaky_fails,
        quarantine == "skip", pointing(command, arguments), order == "failed", mail_to,
        mail_when == "changed",
    )  # fmt: skip
    ready = make_ready(opened, select, point, asked)
    from wolfbane.cli.running import carry_out  # it takes a while: not where nothing is chosen

    ctx.exit(carry_out(ready, asked))
