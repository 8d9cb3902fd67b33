"""``wolfbane doctor``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo_json

if TYPE_CHECKING:
    from wolfbane.inventory import Inventory
    from wolfbane.workspace.diagnosis import Finding


@click.command("doctor", cls=Command)
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="The output format.",
)
@click.option(
    "--probe",
    is_flag=True,
    help="Also start the workspace's own interpreters and commands, and check its environments.",
)
@workspace_option
@click.pass_context
def command(ctx: click.Context, form: str, probe: bool, workspace: Path | None) -> None:
    """Check what is installed and what is missing, and show how to fix it. Runs no tests.

    Checks runtimes. Also finds test files that belong to no suite, suites without tests, and rules
    or presets that match no test. Exits 4 if any suite cannot run.

    Starts no program of the workspace. With --probe, it starts interpreters in the workspace,
    resolves the environments, which may run commands, and checks services, builds and crates.

    \b
    wolfbane doctor
    wolfbane doctor --probe
    wolfbane doctor --as json
    """
    from wolfbane.app.doctor import look_over
    from wolfbane.inventory import open_inventory
    from wolfbane.reports.console.doctor import as_json, print_findings
    from wolfbane.reports.console.style import make_console
    from wolfbane.workspace.diagnosis import State

    opened = workspace_at(workspace)
    inventory = open_inventory(opened)
    findings = [*look_over(inventory, probe=probe), *_presets(inventory)]
    if form == "json":
        echo_json(as_json(findings))
    else:
        print_findings(make_console(), opened, findings)
    ctx.exit(4 if any(finding.state is State.MISSING for finding in findings) else 0)


def _presets(inventory: Inventory) -> Iterator[Finding]:
    """Presets that can no longer run, or that select by unused words."""
    from wolfbane.cli.options.preset_checks import Checked, check_run_arguments
    from wolfbane.workspace.diagnosis import Finding, State
    from wolfbane.workspace.presets import all_presets

    for name in all_presets(inventory.workspace):
        about, mend = f"preset {name}", f"wolfbane preset show {name}"
        checked = check_run_arguments(inventory, ["--preset", name])
        for message in (*checked.wrong, *checked.unused):
            yield Finding(about, State.WARNING, message, mend=mend)
        if checked == Checked():
            yield Finding(about, State.OK, "this preset can be run")
