"""Reads parameters with dotted names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any


def with_dotted_names(data: dict[str, Any]) -> dict[str, Any]:
    """Parameters that are declared in groups, ``[param.api.url]``, with one name: ``api.url``."""
    declared = data.get("param")
    if not isinstance(declared, dict):
        return data
    return {**data, "param": dict(_flat(declared, ""))}


def _flat(table: Mapping[str, Any], prefix: str) -> Iterator[tuple[str, Any]]:
    for key, value in table.items():
        name = f"{prefix}{key}"
        group = isinstance(value, dict) and value and all(map(_is_table, value.values()))
        if group:
            yield from _flat(value, f"{name}.")
        else:
            yield name, value


def _is_table(value: object) -> bool:
    return isinstance(value, dict)
