"""``wolfbane browsers``."""

from __future__ import annotations

import json
from pathlib import Path

import click
from msgspec import to_builtins

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo_json


@click.command("browsers", cls=Command)
@click.option(
    "--open", "opening", is_flag=True, help="Also open each browser once, to check that it works."
)
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="The output format.",
)
@workspace_option
@click.pass_context
def command(ctx: click.Context, opening: bool, form: str, workspace: Path | None) -> None:
    """Show which browsers are configured, and which are installed.

    Starts each program to ask for its version, also programs that the settings name.

    Exits 4 if a suite needs a browser that is missing.

    \b
    wolfbane browsers
    wolfbane browsers --open
    """
    from wolfbane.app.browser_check import open_each
    from wolfbane.browsers.status import browsers_of, look_for
    from wolfbane.reports.console.layout import fitted
    from wolfbane.reports.console.resources import browser_table, problem_lines
    from wolfbane.reports.console.style import make_console

    opened = workspace_at(workspace)
    browsers = look_for(opened, browsers_of(opened))
    if opening:
        browsers = open_each(opened, browsers)
    if form == "json":
        echo_json(json.dumps([to_builtins(browser) for browser in browsers], indent=1))
    else:
        console = make_console()
        for part in fitted(console, browser_table(browsers), console.width):
            console.print(part)
        for line in problem_lines(browsers):
            console.print(line, soft_wrap=True)
    ctx.exit(4 if any(browser.problem and browser.suites for browser in browsers) else 0)
