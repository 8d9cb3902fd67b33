"""``wolfbane compare``."""

from __future__ import annotations

from pathlib import Path

import click

from wolfbane.cli import completion_sources
from wolfbane.cli.commands import Command
from wolfbane.cli.workspace_option import workspace_at, workspace_option


@click.command("compare", cls=Command)
@click.argument("runs", nargs=-1, metavar="[RUN] [RUN]", shell_complete=completion_sources.runs)
@click.option(
    "--pick", multiple=True, metavar="EXPR", help="Only tests that an expression matches."
)
@click.option(
    "--fail-on", "fatal", multiple=True, type=click.Choice(["regression", "slower"]),
    help="Exit 1 if there is any newly failing test, or any slower one.",
)  # fmt: skip
@click.option(
    "--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True,
    help="The form of the answer.",
)  # fmt: skip
@click.option(
    "--picture", metavar="PATH", type=click.Path(path_type=Path, dir_okay=False),
    help="Of two loads: write the times of each step over each other, as PNG or SVG.",
)  # fmt: skip
@workspace_option
@click.pass_context
def command(
    ctx: click.Context, runs: tuple[str, ...], pick: tuple[str, ...], fatal: tuple[str, ...],
    form: str, picture: Path | None, workspace: Path | None,
) -> None:  # fmt: skip
    """Compare two runs: newly failing, fixed, new, removed and slower tests.

    RUN is a name or the start of one, 'last', 'previous', either '@' an environment, or a
    report file. The older of the two is the one before. Without names, the newest run and the
    one before it that chose the same are compared; one name is compared with the newest run.

    Tests are compared in the same environment. Quarantined tests are shown, and are never a
    regression. Of two loads the times of each step are compared, too.

    \b
    wolfbane compare
    wolfbane compare previous@staging last@staging --fail-on regression
    wolfbane compare main.json last
    """
    from rich.text import Text

    from wolfbane.app.compare import changes_of_load, compare_runs
    from wolfbane.reports.comparison import as_json, comparison_parts, load_parts
    from wolfbane.reports.style import make_console

    opened = workspace_at(workspace)
    comparison, problems = compare_runs(opened, runs, pick)
    for problem in problems:
        click.echo(f"wolfbane: {problem}", err=True)
    changes = changes_of_load(opened, comparison)
    if form == "json":
        click.echo(as_json(comparison, changes))
    else:
        console = make_console()
        parts = [*comparison_parts(console, comparison), *load_parts(console, changes)]
        for part in parts:
            console.print(part, soft_wrap=isinstance(part, Text))
    if picture is not None:
        from wolfbane.reports.load_comparison import draw_changes

        draw_changes(changes, picture)
    slower = bool(comparison.slower) or any(change.slower for change in changes)
    bad = {"regression": bool(comparison.regressions), "slower": slower}
    ctx.exit(1 if any(bad[name] for name in fatal) else 0)
