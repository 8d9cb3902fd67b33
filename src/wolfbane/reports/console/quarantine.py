"""Prints the quarantine: its entries, and its section in the report of a run."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from typing import TYPE_CHECKING, Any

import msgspec
from rich.text import Text

from wolfbane.events.run_events import Quarantined
from wolfbane.model import Result
from wolfbane.reports.console.layout import rule
from wolfbane.reports.console.style import STYLES, Page
from wolfbane.reports.text import in_line, many, visible
from wolfbane.results.quarantine import QuarantineEntry

if TYPE_CHECKING:
    from wolfbane.results.history.queries import TestHistory


class QuarantinedTests(msgspec.Struct, frozen=True):
    """An entry with its tests and their recent outcomes."""

    entry: QuarantineEntry
    histories: tuple[TestHistory, ...]

    @property
    def stable(self) -> int:
        """The number of newest runs in which each of its tests passed."""
        return min((history.stable for history in self.histories), default=0)

    @property
    def lately(self) -> tuple[int, int]:
        """How often its tests passed, and how often they ran."""
        ran = sum(len(history.counted) for history in self.histories)
        return sum(history.passed for history in self.histories), ran


def entry_lines(quarantined: Sequence[QuarantinedTests], today: date) -> Iterator[Text]:
    """Each entry on a few lines."""
    for number, each in enumerate(quarantined, 1):
        entry = each.entry
        yield Text.assemble((f"{number:>3}  ", "dim"), (visible(entry.match), "bold"))
        yield Text(f"     {visible(entry.because)}")
        line = Text(f"     {many(entry.days(today), 'day')}", style="dim")
        if entry.until:
            over = entry.is_over(today)
            line.append(f", until {entry.until}", style=STYLES_OF[over])
            line.append(" (past)" if over else "", style=STYLES_OF[True])
        for word in filter(None, (entry.owner, entry.ticket)):
            line.append(f", {visible(word)}")
        passed, ran = each.lately
        if not each.histories:
            line.append("; no longer matches any test", style=STYLES_OF[True])
        else:
            record = "no recorded run"
            if ran:
                record = f"passed {passed} of {ran} recent runs"
            line.append(f"; {many(len(each.histories), 'test')}, {record}")
        yield line


STYLES_OF = {True: "bold khaki1", False: "dim"}


def as_data(quarantined: Sequence[QuarantinedTests]) -> list[dict[str, Any]]:
    """The JSON data of each entry."""
    return [
        {
            "match": each.entry.match,
            "because": each.entry.because,
            "since": each.entry.since.isoformat(),
            "until": each.entry.until.isoformat() if each.entry.until else None,
            "owner": each.entry.owner,
            "ticket": each.entry.ticket,
            "tests": [history.address for history in each.histories],
            "passed": each.lately[0],
            "runs": each.lately[1],
            "stable": each.stable,
        }
        for each in quarantined
    ]


def print_quarantined(
    console: Page,
    results: Sequence[Result],
    entries: Mapping[str, Quarantined],
    lately: Mapping[str, str],
) -> None:
    """The quarantined tests of a run: outcome, age, reason, and how often they passed recently."""
    quarantined = [result for result in results if result.address in entries]
    if not quarantined:
        return
    console.print()
    console.print(rule(console, console.reading_width), style="dim")
    title = Text(
        f"quarantined  {many(len(quarantined), 'test')} (failures do not fail the run)",
        style="bold",
    )
    over = [result for result in quarantined if entries[result.address].over]
    if over:
        title.append(f"\nthe end date has passed for {many(len(over), 'test')}; this fails the run")
    console.print(title)
    for result in quarantined:
        entry = entries[result.address]
        line = Text.assemble("  ", (f"{result.outcome}", STYLES[result.outcome]))
        line.append(f"  {in_line(result.address)}")
        console.print(line, soft_wrap=True)
        text = Text(f"    {many(entry.days, 'day')}: {visible(entry.because)}", style="dim")
        if entry.until:
            text.append(f"; until {entry.until}", style=STYLES_OF[entry.over])
        for word in filter(None, (entry.owner, entry.ticket)):
            text.append(f"; {visible(word)}")
        if record := lately.get(result.address):
            text.append(f"; passed {record} recent runs")
        console.print(text, soft_wrap=True)
        if result.outcome.is_bad and result.message:
            first = visible(result.message).partition("\n")[0]
            console.print(Text(f"    {first}"), soft_wrap=True)
