"""Prints what runs can use: environments with their values, browsers, machines."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.text import Text

from wolfbane.basis.units import bytes_shown
from wolfbane.browsers.status import BrowserStatus
from wolfbane.environments import Environment, by_dotted_name
from wolfbane.reports.console.layout import Column
from wolfbane.reports.text import aligned, many, visible
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:
    from wolfbane.cluster.messages import MachineAbilities
    from wolfbane.cluster.there.actor import MachineFacts


def browser_table(browsers: Sequence[BrowserStatus]) -> list[Column]:
    """One line each: name, engine, version, window, users, and whether it is installed."""
    here = [_presence(browser) for browser in browsers]
    return [
        Column("browser", [visible(status.name) for status in browsers]),
        Column("engine", [status.engine for status in browsers], 1),
        Column("version", [status.version or "-" for status in browsers], 2),
        Column("window", [status.window or "-" for status in browsers], 3),
        Column("suites", [", ".join(status.suites) or "-" for status in browsers], 4, wraps=True),
        Column("here", here),
    ]


def problem_lines(browsers: Sequence[BrowserStatus]) -> Iterator[Text]:
    """The problem and its fix."""
    for status in browsers:
        if status.problem:
            yield Text(visible(status.problem))


def _presence(browser: BrowserStatus) -> Text:
    if browser.problem:
        return Text("no", "mark")
    return Text("opened" if browser.opened else "yes", "dark_cyan")


def machine_table(
    names: Sequence[str],
    slots: Sequence[int],
    facts: Sequence[MachineFacts | None],
    abilities: Sequence[MachineAbilities | None],
) -> list[Column]:
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


def environment_lines(workspace: Workspace) -> Iterator[str]:
    """A line for each environment: its name, its base, and the number of its values."""
    rows = []
    for name, table in workspace.settings.env.items():
        given = list(by_dotted_name(table, workspace.settings.param))
        about = [many(len(given), "value")]
        if "extends" in table:
            about += [f"extends {table['extends']}"]
        if "values_from" in table:
            about += [f"values from {_joined(table['values_from'])}"]
        if name == workspace.settings.workspace.env:
            about += ["default"]
        rows.append((name, ", ".join(about)))
    yield from aligned(rows)


def value_lines(environment: Environment, unset: Sequence[str]) -> Iterator[str]:
    """A line for each parameter: its value, with masked secrets, and its source."""
    shown, values = environment.shown(), environment.values
    rows = [(name, text, values[name].origin) for name, text in shown.items()]
    yield from aligned([*rows, *((name, "-", "no value") for name in unset)])


def _joined(value: object) -> str:
    if isinstance(value, list):
        return ", ".join(value)
    return str(value)


def as_data(environment: Environment) -> list[Mapping[str, Any]]:
    """The same for programs."""
    shown = environment.shown()
    return [
        {"name": name, "value": shown[name], "origin": value.origin, "secret": value.secret}
        for name, value in environment.values.items()
    ]
