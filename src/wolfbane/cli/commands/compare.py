"""``wolfbane compare``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo, echo_json

if TYPE_CHECKING:
    from wolfbane.load.comparison import StepChange
    from wolfbane.results.compare import Comparison


@click.command("compare", cls=Command)
@click.argument("runs", nargs=-1, metavar="[RUN] [RUN]", shell_complete=completion_sources.runs)
@click.option(
    "--pick", multiple=True, metavar="EXPR", help="Compare only tests that match this expression."
)
@click.option(
    "--fail-on",
    "fatal",
    multiple=True,
    type=click.Choice(["regression", "slower"]),
    help="Exit 1 if a test is newly failing (regression) or slower (slower).",
)
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="The output format.",
)
@click.option(
    "--picture",
    metavar="PATH",
    type=click.Path(path_type=Path, dir_okay=False),
    help="For two load tests: draw the response times of each step in one PNG or SVG picture.",
)
@workspace_option
@click.pass_context
def command(
    ctx: click.Context,
    runs: tuple[str, ...],
    pick: tuple[str, ...],
    fatal: tuple[str, ...],
    form: str,
    picture: Path | None,
    workspace: Path | None,
) -> None:
    """Compare two runs: newly failing, fixed, new, removed and slower tests.

    RUN is a run's name or the start of it, 'last', 'previous', 'last@ENV', 'previous@ENV', or a
    report file. The older run is the baseline. Without names, the newest run is compared with the
    latest earlier run that has the same selection. With one name, that run is compared with the
    newest run.

    Each test is compared within the same environment. Quarantined tests are shown, but never count
    as a regression. For two load tests, the times of each step are also compared.

    \b
    wolfbane compare
    wolfbane compare previous@staging last@staging --fail-on regression
    wolfbane compare main.json last
    """
    from wolfbane.app.compare import changes_of_load, compare_runs

    opened = workspace_at(workspace)
    comparison, problems = compare_runs(opened, runs, pick)
    for problem in problems:
        echo(f"wolfbane: {problem}", err=True)
    changes = changes_of_load(opened, comparison)
    if form == "json":
        from wolfbane.reports.console.comparison import as_json

        echo_json(as_json(comparison, changes))
    else:
        _show(comparison, changes)
    if picture is not None:
        from wolfbane.reports.load.comparison import draw_changes

        draw_changes(changes, picture)
    slower = bool(comparison.slower) or any(change.slower for change in changes)
    bad = {"regression": bool(comparison.regressions), "slower": slower}
    ctx.exit(1 if any(bad[name] for name in fatal) else 0)


def _show(comparison: Comparison, changes: Sequence[StepChange]) -> None:
    from rich.text import Text

    from wolfbane.reports.console.comparison import comparison_parts, load_parts
    from wolfbane.reports.console.style import make_console

    console = make_console()
    for part in [*comparison_parts(console, comparison), *load_parts(console, changes)]:
        console.print(part, soft_wrap=isinstance(part, Text))
