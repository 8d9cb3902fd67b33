"""Prints environments and their values."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from wolfbane.environments import Environment, by_dotted_name
from wolfbane.reports.text import aligned, many
from wolfbane.workspace.settings import Workspace


def environment_lines(workspace: Workspace) -> Iterator[str]:
    """A line for each environment: its name, its base, and the number of its values."""
    rows = []
    for name, table in workspace.settings.env.items():
        given = list(by_dotted_name(table, workspace.settings.param))
        about = [many(len(given), "value")]
        about += [f"extends {table['extends']}"] if "extends" in table else []
        about += [f"values from {_joined(table['values_from'])}"] if "values_from" in table else []
        about += ["default"] if name == workspace.settings.workspace.env else []
        rows.append((name, ", ".join(about)))
    yield from aligned(rows)


def value_lines(environment: Environment, unset: Sequence[str]) -> Iterator[str]:
    """A line for each parameter: its value, with masked secrets, and its source."""
    shown, values = environment.shown(), environment.values
    rows = [(name, text, values[name].origin) for name, text in shown.items()]
    yield from aligned([*rows, *((name, "-", "no value") for name in unset)])


def _joined(value: object) -> str:
    return ", ".join(value) if isinstance(value, list) else str(value)


def as_data(environment: Environment) -> list[Mapping[str, Any]]:
    """The same for programs."""
    shown = environment.shown()
    return [
        {"name": name, "value": shown[name], "origin": value.origin, "secret": value.secret}
        for name, value in environment.values.items()
    ]
