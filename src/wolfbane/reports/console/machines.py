"""Prints the machines of a cluster."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from wolfbane.basis.units import bytes_shown
from wolfbane.reports.console.layout import Column
from wolfbane.reports.text import visible

if TYPE_CHECKING:
    from wolfbane.cluster.messages import MachineAbilities
    from wolfbane.cluster.there.actor import MachineFacts


def machine_table(
    names: Sequence[str], slots: Sequence[int], facts: Sequence[MachineFacts | None],
    abilities: Sequence[MachineAbilities | None],
) -> list[Column]:  # fmt: skip
    """One line for each machine: its properties, and the number of its suites and browsers."""
    return [
        Column("machine", [visible(name) for name in names]),
        Column("slots", [str(count) for count in slots], right=True),
        Column("cores", [str(f.cores) if f else "-" for f in facts], 3, right=True),
        Column("memory", [bytes_shown(f.memory) if f else "-" for f in facts], 4, right=True),
        Column("wolfbane", [f.version if f else "-" for f in facts], 2),
        Column("system", [f.system if f else "-" for f in facts], 5),
        Column("suites", [_count(a) for a in abilities], right=True),
        Column("browsers", [", ".join(a.browsers) if a else "-" for a in abilities], 1, wraps=True),
    ]


def machine_problems(
    names: Sequence[str], problems: Sequence[str], abilities: Sequence[MachineAbilities | None]
) -> Iterator[Text]:
    """The reasons why machines cannot be used, or cannot run a suite or a browser."""
    for name, problem, able in zip(names, problems, abilities, strict=True):
        if problem:
            yield Text(visible(f"{name}: {problem}"))
        if able:
            for suite, why in able.missing.items():
                yield Text(visible(f"{name}: suite {suite}: {why}"))
            for browser, why in able.no_browser.items():
                yield Text(visible(f"{name}: browser {browser}: {why}"))


def _count(able: MachineAbilities | None) -> Text:
    if able is None:
        return Text("-")
    whole = len(able.runtimes) + len(able.missing)
    return Text(f"{len(able.runtimes)} of {whole}", style="mark" if able.missing else "")
