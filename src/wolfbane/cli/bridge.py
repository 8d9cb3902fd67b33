"""``wolfbane bridge``."""

from __future__ import annotations

from pathlib import Path

import click

from wolfbane.cli.selecting import workspace_option
from wolfbane.errors import InputError, Problem, did_you_mean


@click.group("bridge")
def command() -> None:
    """Connect suites that have a launcher of their own."""


@command.command("check")
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@workspace_option
@click.pass_context
def check(ctx: click.Context, file: Path, workspace: Path | None) -> None:
    """Use the bridge in FILE on a suite that names it, and say line by line what holds.

    Runs all of the suite's tests, one alone, some, and one that fails. Exits 1 where something
    does not hold.

    \b
    wolfbane bridge check bridges/ledger.toml
    """
    from wolfbane.environments import resolve_each
    from wolfbane.execution.bridge_check import check_bridge
    from wolfbane.execution.checkup import State
    from wolfbane.reports.checkup import print_findings
    from wolfbane.reports.style import make_console
    from wolfbane.workspace.find import open_workspace

    found = open_workspace(workspace or Path.cwd(), given=workspace is not None)
    suites = [
        suite for suite in found.suites
        if suite.bridge and (found.root / suite.bridge).resolve() == file.resolve()
    ]  # fmt: skip
    if not suites:
        named = [suite.bridge for suite in found.suites if suite.bridge]
        hint = did_you_mean(str(file), named) or "name it as a suite's 'bridge' in wolfbane.toml"
        raise InputError(Problem(f"no suite names the bridge {file}", hint=hint))
    environments = resolve_each(found, "", (), (), labelled=False)
    findings = [each for suite in suites for each in check_bridge(found, suite, environments)]
    print_findings(make_console(), found, findings)
    ctx.exit(1 if any(finding.state is State.WRONG for finding in findings) else 0)
