"""The findings of ``doctor``, as text and as JSON."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence

from msgspec import to_builtins
from rich.text import Text

from wolfbane.reports.console.layout import NARROWEST, wrapped
from wolfbane.reports.console.style import Page
from wolfbane.reports.text import many, visible
from wolfbane.workspace.diagnosis import Finding, State
from wolfbane.workspace.settings import Workspace

_STYLES = {
    State.OK: "dark_cyan",
    State.WARNING: "bold khaki1",
    State.MISSING: "bold indian_red1",
    State.WRONG: "bold indian_red1",
}


def print_findings(console: Page, workspace: Workspace, findings: Sequence[Finding]) -> None:
    """A row for each, the fix below it, and the counts at the end."""
    where = workspace.file or f"{workspace.root} (no wolfbane.toml; 'wolfbane init' writes one)"
    console.print(Text.assemble((workspace.name, "bold"), ("  ", ""), (str(where), "dim")))
    console.print()
    states = max((len(finding.state) for finding in findings), default=0)
    about = max((len(visible(finding.about)) for finding in findings), default=0)
    for finding in findings:
        _print_finding(console, finding, states, about=about)
    console.print()
    counts = Counter(finding.state for finding in findings)
    counted = [many(counts[State.WARNING], "warning")]
    if counts[State.WRONG]:
        counted.insert(0, f"{counts[State.WRONG]} wrong")
    if counts[State.MISSING]:
        counted.insert(0, f"{counts[State.MISSING]} missing (some suites cannot run)")
    line = Text(
        ", ".join(counted) if any(counts[s] for s in list(State)[1:]) else "no problems found"
    )
    console.print(line)


def _print_finding(console: Page, finding: Finding, states: int, about: int) -> None:
    """Its state, its subject and its message; the message is below if there is too little room."""
    text = Text(visible(finding.message))
    if finding.mend:
        text.append(f"\n-> {visible(finding.mend)}", style="dim")
    head = Text.assemble(
        (f"{finding.state:<{states}}", _STYLES[finding.state]),
        (f"  {visible(finding.about):<{about}}  ", "bold"),
    )
    room = console.reading_width - len(head)
    if room >= 2 * NARROWEST:
        for line in wrapped(text, room):
            console.print(head + line, soft_wrap=True)
            head = Text(" " * len(head))
        return
    head.rstrip()
    console.print(head, soft_wrap=True)
    for line in wrapped(text, max(console.reading_width - 2, NARROWEST)):
        console.print(Text("  ") + line, soft_wrap=True)


def as_json(findings: Sequence[Finding]) -> str:
    """The same as a list of objects: about, state, message, mend."""
    return json.dumps([to_builtins(finding) for finding in findings], indent=1)
