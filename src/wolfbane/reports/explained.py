"""One test explained: what is known of it, and what a selection makes of it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.table import Table
from rich.text import Text

from wolfbane.model import Outcome, Test
from wolfbane.reports.style import STYLES
from wolfbane.reports.text import clock, in_line, visible
from wolfbane.results.newest import Newest
from wolfbane.selection import Choice
from wolfbane.selection.reasons import Reason, reasons


def explained(test: Test, choice: Choice, newest: Newest, browsers: Sequence[str]) -> Table:
    """The facts, then each part of the selection with its verdict."""
    rows = Table.grid(padding=(0, 2))
    rows.add_column(style="dim", no_wrap=True)
    rows.add_column(overflow="fold")
    rows.add_row("test", Text(in_line(test.address), style="bold"))
    rows.add_row("suite", f"{test.suite}, of kind {test.kind}")
    if test.line:
        end = f" to {test.end}" if test.end > test.line else ""
        rows.add_row("source", Text(f"{test.path}, line {test.line}{end}"))
    known = "exactly" if test.exact else "from its source; not loaded yet"
    rows.add_row("known", known)
    if test.blocked:
        rows.add_row("blocked", Text(visible(test.blocked)))
    width = max((len(tag.text) for tag in test.tags), default=0)
    for index, tag in enumerate(test.tags):
        line = Text.assemble(
            f"{visible(tag.text):<{width}}", (f"  from {visible(tag.origin)}", "dim")
        )
        rows.add_row("tags" if index == 0 else "", line)
    if not test.tags:
        rows.add_row("tags", "none")
    rows.add_row("browsers", ", ".join(browsers) or "none")
    rows.add_row("last run", _last_run(test, newest))
    chosen = True
    for reason in reasons(choice, test, newest.status):
        keeps = reason.holds if reason.source == "selection" else not reason.holds
        chosen = chosen and keeps
        rows.add_row(reason.source, _told(reason, keeps=keeps))
    verdict = (
        Text("chosen", style="bold dark_cyan") if chosen else Text("not chosen", "bold khaki1")
    )
    rows.add_row("verdict", verdict)
    return rows


def _last_run(test: Test, newest: Newest) -> Text:
    status = newest.status.get(test.address)
    if status is None:
        return Text("never run here")
    line = Text(status, style=STYLES[Outcome(status)])
    return line.append(f", {clock(newest.times[test.address])}", style="not bold default")


def _told(reason: Reason, *, keeps: bool) -> Text:
    line = Text(visible(reason.text))
    if reason.terms:
        line.append("\n")
        line.append("\n".join(f"  {_mark(held)}  {visible(text)}" for text, held in reason.terms))
    for why in reason.why:
        line.append(f"\n{visible(why)}", style="dim")
    matches = "matches" if reason.holds else "does not match"
    effect = "keeps it" if keeps else "takes it away"
    if reason.source != "selection" and keeps:
        effect = "leaves it in"
    line.append(f"\n{matches}: {effect}", style="dark_cyan" if keeps else "khaki1")
    return line


def _mark(held: bool) -> str:
    return "holds" if held else "not  "
