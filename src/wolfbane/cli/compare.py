"""``wolfbane compare``."""

from __future__ import annotations

from pathlib import Path

import click

from wolfbane.cli import words
from wolfbane.cli.selecting import workspace_option
from wolfbane.errors import InputError, Problem


@click.command("compare")
@click.argument("one", default="previous", metavar="[RUN]", shell_complete=words.runs)
@click.argument("other", default="last", metavar="[RUN]", shell_complete=words.runs)
@click.option(
    "--pick", multiple=True, metavar="EXPR", help="Only tests that an expression matches."
)
@click.option(
    "--fail-on", "fatal", multiple=True, type=click.Choice(["regression", "slower"]),
    help="Exit 1 if there is any: tests that fail and did not, or that got slower.",
)  # fmt: skip
@click.option(
    "--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True,
    help="The form of the answer.",
)  # fmt: skip
@workspace_option
@click.pass_context
def command(
    ctx: click.Context, one: str, other: str, pick: tuple[str, ...], fatal: tuple[str, ...],
    form: str, workspace: Path | None,
) -> None:  # fmt: skip
    """Compare two runs: what broke, what was mended, what is new, gone or slower.

    RUN is a name or the start of one, 'last', 'previous', either '@' an environment, or a
    report written as JSON. The older of the two is the one before.

    \b
    wolfbane compare
    wolfbane compare previous@staging last@staging --fail-on regression
    wolfbane compare main.json last
    """
    from wolfbane.inventory import open_inventory
    from wolfbane.reports.comparison import as_json, comparison_parts
    from wolfbane.reports.style import make_console
    from wolfbane.results.compare import compare, earlier_seconds
    from wolfbane.results.naming import in_order, run_named
    from wolfbane.results.opening import open_history
    from wolfbane.selection import Matcher, all_of, parse
    from wolfbane.workspace.find import open_workspace

    found = open_workspace(workspace or Path.cwd(), given=workspace is not None)
    store, problems = open_history(found)
    for problem in problems:
        click.echo(f"wolfbane: {problem}", err=True)
    before, after = in_order(run_named(store, one), run_named(store, other))
    if before[0].name == after[0].name:
        raise InputError(Problem(f"'{one}' and '{other}' are the same run"))
    if pick:
        matches = Matcher(all_of([parse(text) for text in pick]))
        kept = {test.address for test in open_inventory(found).tests if matches(test)}
        before, after = ((e, {a: x for a, x in t.items() if a in kept}) for e, t in (before, after))
    told = compare(before, after, earlier_seconds(store, after[1].values(), after[0]))
    if form == "json":
        click.echo(as_json(told))
    else:
        console = make_console()
        for part in comparison_parts(told):
            console.print(part, soft_wrap=True)
    bad = {"regression": told.regressions, "slower": told.slower}
    ctx.exit(1 if any(bad[name] for name in fatal) else 0)
