"""Explains one test: its known facts, and how a selection treats it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date

from rich.text import Text

from wolfbane.kinds.steps import StepDefinition, StepLine, StepListing
from wolfbane.model import Outcome, Test, variant
from wolfbane.reports.console.style import STYLES
from wolfbane.reports.text import clock, in_line, visible
from wolfbane.results.newest import Newest
from wolfbane.results.quarantine import QuarantineEntry
from wolfbane.selection import Choice, choose
from wolfbane.selection.explain import Reason, reasons


def explained(
    variants: Sequence[Test], choice: Choice, newest: Newest, quarantine: QuarantineEntry | None
) -> list[tuple[str, Text | str]]:
    """The facts, then each part of the selection with its verdict.

    ``variants`` are the test in each of its browsers; it is selected if one of them is.
    ``quarantine`` is its entry.
    """
    status = newest.overall().status
    test = next(iter(choose(choice, variants, status).chosen), variants[0])
    rows: list[tuple[str, Text | str]] = []
    rows.append(("test", Text(in_line(test.worker_address), style="bold")))
    rows.append(("suite", f"{test.suite} (kind {test.kind})"))
    if test.line:
        end = f" to {test.end}" if test.end > test.line else ""
        rows.append(("source", Text(f"{test.path}, line {test.line}{end}")))
    known = "exactly" if test.exact else "read from its source file; not loaded yet"
    rows.append(("known", known))
    if test.blocked:
        rows.append(("blocked", Text(visible(test.blocked))))
    width = max((len(tag.text) for tag in test.tags), default=0)
    for index, tag in enumerate(test.tags):
        line = Text.assemble(
            f"{visible(tag.text):<{width}}", (f"  from {visible(tag.origin)}", "dim")
        )
        rows.append(("tags" if index == 0 else "", line))
    if not test.tags:
        rows.append(("tags", "none"))
    rows.append(
        ("browsers", ", ".join(filter(None, (each.browser for each in variants))) or "none")
    )
    for index, line in enumerate(_last_runs(variants, newest)):
        rows.append(("last run" if index == 0 else "", line))
    if quarantine is not None:
        rows.append(("quarantine", _quarantined(quarantine)))
    chosen = True
    for reason in reasons(choice, test, status):
        keeps = reason.holds if reason.source == "selection" else not reason.holds
        chosen = chosen and keeps
        rows.append((reason.source, _reason_text(reason, keeps=keeps)))
    verdict = (
        Text("selected", style="bold dark_cyan") if chosen else Text("not selected", "bold khaki1")
    )
    rows.append(("verdict", verdict))
    return rows


def step_rows(steps: Sequence[StepLine], listing: StepListing) -> list[tuple[str, Text | str]]:
    """Each step of a scenario with the place of its function."""
    definitions: dict[tuple[int, str], list[StepDefinition]] = {}
    for definition in listing.definitions:
        for use in definition.uses:
            definitions.setdefault((use.line, use.text), []).append(definition)
    lines: list[Text | str] = []
    for step in steps:
        meant = definitions.get((step.line, step.text), [])
        places = ", ".join(f"{each.function} in {each.location}" for each in meant)
        line = Text(visible(f"{step.keyword} {step.text}"))
        lines.append(line.append(f"\n  {visible(places) or 'no definition found'}", style="dim"))
    lines = [Text(visible(message)) for message in listing.problems] or lines
    return [("steps" if index == 0 else "", line) for index, line in enumerate(lines)]


def _last_runs(variants: Sequence[Test], newest: Newest) -> Iterator[Text]:
    """The last outcome of each variant."""
    ran = False
    for test in variants:
        for environment, (outcome, seconds) in newest.variants(test.address).items():
            ran = True
            where = variant("", test.browser, environment)
            yield Text.assemble(
                (outcome, STYLES[Outcome(outcome)]),
                f", {clock(seconds)}",
                (f" {visible(where)}", "dim"),
            )
    if not ran:
        yield Text("no recorded run")


def _quarantined(entry: QuarantineEntry) -> Text:
    line = Text(f"since {entry.since}: {visible(entry.because)}", style="khaki1")
    if entry.until:
        over = entry.is_over(date.today())
        line.append(
            f"; until {entry.until}"
            + (" (past: runs fail until the entry is changed)" if over else "")
        )
    return line


def _reason_text(reason: Reason, *, keeps: bool) -> Text:
    line = Text(visible(reason.text))
    if reason.terms:
        line.append("\n")
        terms = (f"  {_mark(matches)}  {visible(text)}" for text, matches in reason.terms)
        line.append("\n".join(terms))
    for why in reason.why:
        line.append(f"\n{visible(why)}", style="dim")
    matches = "does not match"
    if reason.holds:
        matches = "matches"
    effect = "excludes the test"
    if keeps:
        effect = "includes the test"
    if reason.source != "selection" and keeps:
        effect = "does not exclude the test"
    line.append(f"\n{matches}: {effect}", style="dark_cyan" if keeps else "khaki1")
    return line


def _mark(matches: bool) -> str:
    if matches:
        return "holds"
    return "not  "
