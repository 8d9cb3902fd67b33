"""What a look over the workspace found, for people and for programs."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wolfbane.execution.checkup import Finding, State
from wolfbane.reports.text import many, visible
from wolfbane.workspace.settings import Workspace

_STYLES = {State.OK: "dark_cyan", State.WARNING: "bold khaki1", State.MISSING: "bold indian_red1",
           State.WRONG: "bold indian_red1"}  # fmt: skip


def print_findings(console: Console, workspace: Workspace, findings: Sequence[Finding]) -> None:
    """A row for each, what to do about it below, and the counts at the end."""
    table = Table.grid(padding=(0, 2))
    table.add_column(no_wrap=True)
    table.add_column(no_wrap=True, style="bold")
    table.add_column(overflow="fold")
    for finding in findings:
        state = Text(finding.state, style=_STYLES[finding.state])
        table.add_row(state, visible(finding.about), Text(visible(finding.message)))
        if finding.mend:
            table.add_row("", "", Text(f"-> {visible(finding.mend)}", style="dim"))
    where = workspace.file or f"{workspace.root} (nothing is written down: wolfbane init)"
    console.print(Text.assemble((workspace.name, "bold"), ("  ", ""), (str(where), "dim")))
    console.print()
    console.print(table)
    console.print()
    counts = Counter(finding.state for finding in findings)
    said = [many(counts[State.WARNING], "warning")]
    if counts[State.WRONG]:
        said.insert(0, f"{counts[State.WRONG]} wrong")
    if counts[State.MISSING]:
        said.insert(0, f"{counts[State.MISSING]} missing: some suites cannot run")
    line = Text(", ".join(said) if any(counts[s] for s in list(State)[1:]) else "all is well")
    console.print(line)


def as_json(findings: Sequence[Finding]) -> str:
    """The same as a list of objects: about, state, message, mend."""
    return json.dumps([asdict(finding) for finding in findings], indent=1)
