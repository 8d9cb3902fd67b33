"""The comparison of two runs, as text and as JSON."""

from __future__ import annotations

import json
from collections.abc import Container, Iterator, Sequence
from typing import TYPE_CHECKING

from msgspec import to_builtins
from rich.console import RenderableType
from rich.text import Text

from wolfbane.model import Outcome
from wolfbane.reports.console.history import suites_shown
from wolfbane.reports.console.layout import Column, fitted
from wolfbane.reports.console.style import STYLES, Page
from wolfbane.reports.text import clock, in_line, many, visible
from wolfbane.results.compare import QUARANTINED, Change, Comparison
from wolfbane.results.history.entries import TestEnd

if TYPE_CHECKING:
    from wolfbane.load.comparison import StepChange

MOST = 50
_GROUPS = {
    "newly failing": "newly_failing",
    "still failing": "still_failing",
    "fixed": "mended",
    "newly flaky": "newly_flaky",
    "new": "new",
    "removed": "gone",
}


def comparison_parts(console: Page, comparison: Comparison) -> Iterator[RenderableType]:
    """The counts side by side, then the changes, group by group."""
    for title, entry in (("before", comparison.before), ("after", comparison.after)):
        line = Text.assemble((f"{title:<8}", "dim"), visible(entry.name))
        line.append(f"  {entry.began[:16].replace('T', ' ')}  {clock(entry.seconds)}", style="dim")
        line.append(f"  {visible(entry.target)}" if entry.target else "", style="dim")
        line.append(f"  {visible(suites_shown(entry))}" if entry.commit_hash else "", style="dim")
        line.append(f"  {visible(entry.reason)}" if entry.reason else "", style="khaki1")
        yield line
    if not comparison.chose_alike:
        selections = [visible(entry.expression) for entry in (comparison.before, comparison.after)]
        yield Text(
            f"the runs have different selections: {selections[0]} / {selections[1]}",
            style="bold khaki1",
        )
    if comparison.left:
        message = f"in only one of the runs, and not compared: {', '.join(comparison.left)}"
        yield Text(visible(message), style="bold khaki1")
    yield from fitted(console, _counts(comparison), console.width)
    for title, attribute in _GROUPS.items():
        changes, short = getattr(comparison, attribute), attribute in ("new", "gone")
        yield from _group(title, changes, comparison.quarantined, short=short)
    if comparison.slower:
        yield Text(f"\nsignificantly slower  {many(len(comparison.slower), 'test')}", style="bold")
        for change, middle in comparison.slower[:MOST]:
            seconds = 0.0
            if change.after:
                seconds = change.after.seconds
            line = Text(f"  {in_line(change.address)}  ")
            yield line.append(f"{clock(middle)} -> {clock(seconds)}", style="khaki1")
    if (
        not any(getattr(comparison, attribute) for attribute in _GROUPS.values())
        and not comparison.slower
    ):
        yield Text("no changes")


def _counts(comparison: Comparison) -> list[Column]:
    names = [
        Text(name, style="" if name == QUARANTINED else STYLES[Outcome(name)])
        for name in comparison.counts
    ]
    pairs = list(comparison.counts.values())
    changes = [f"{after - before:+}" if after != before else "-" for before, after in pairs]
    return [
        Column("outcome", names),
        Column("before", [str(before) for before, _ in pairs], right=True),
        Column("after", [str(after) for _, after in pairs], right=True),
        Column("change", changes, right=True),
    ]


def _group(
    title: str, changes: Sequence[Change], quarantined: Container[str], *, short: bool
) -> Iterator[Text]:
    if not changes:
        return
    yield Text(f"\n{title}  {many(len(changes), 'test')}", style="bold")
    for change in changes[:MOST]:
        line = Text(f"  {in_line(change.address)}  ")
        if not short:
            line.append_text(_outcome(change.before)).append(" -> ", style="dim")
        line.append_text(_outcome(change.after or change.before))
        line.append("  quarantined" if change.address in quarantined else "", style="dim")
        yield line
        after = change.after
        if after is not None and after.message and Outcome(after.outcome).is_bad:
            yield Text(f"    {visible(after.message)}", style="dim")
    if len(changes) > MOST:
        yield Text(f"  and {len(changes) - MOST} more", style="dim")


def _outcome(ended: TestEnd | None) -> Text:
    if ended:
        return Text(ended.outcome, style=STYLES[Outcome(ended.outcome)])
    return Text("-")


def load_parts(console: Page, changes: Sequence[StepChange]) -> Iterator[RenderableType]:
    """For two load tests: the times of each step, and the tests with slower steps."""
    if not changes:
        return
    from wolfbane.reports.load.comparison import change_columns, slower_tests  # Matplotlib

    yield Text("\nresponse times of the load tests, before and after", style="bold")
    yield from fitted(console, change_columns(changes), console.width)
    for address in slower_tests(changes):
        yield Text.assemble(("significantly slower  ", "bold khaki1"), in_line(address))


def as_json(comparison: Comparison, changes: Sequence[StepChange] = ()) -> str:
    """The same as an object: both runs, the counts, and each group as a list."""
    groups = {
        attribute: [
            _plain(change, comparison.quarantined) for change in getattr(comparison, attribute)
        ]
        for attribute in _GROUPS.values()
    }
    slower = [
        {**_plain(change, comparison.quarantined), "median_seconds": middle}
        for change, middle in comparison.slower
    ]
    runs = {"before": to_builtins(comparison.before), "after": to_builtins(comparison.after)}
    data = {**runs, "counts": comparison.counts, **groups, "slower": slower}
    if changes:
        from wolfbane.reports.load.comparison import changes_as_data

        data["load"] = changes_as_data(changes)
    return json.dumps(data, indent=1, ensure_ascii=False)


def _plain(change: Change, quarantined: Container[str]) -> dict[str, object]:
    return {
        "address": change.address,
        "before": change.before.outcome if change.before else None,
        "after": change.after.outcome if change.after else None,
        "seconds": change.after.seconds if change.after else None,
        "quarantined": change.address in quarantined,
        "message": change.after.message if change.after else "",
    }
