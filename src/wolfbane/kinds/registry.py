"""The registry of all kinds. A kind is imported when a suite needs it for the first time."""

from __future__ import annotations

import importlib
from collections.abc import Iterable
from functools import cache
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from wolfbane.kinds.contract import Kind
    from wolfbane.kinds.suite import Suite

KINDS = (
    "python",
    "doctest",
    "node",
    "cargo",
    "tap",
    "scenario",
    "workflow",
    "bridge",
    "program",
)
"""One line for each kind: the name of its package, and of the kind in settings."""


@cache
def find_kind(name: str) -> Kind[Any]:
    """The kind with this name. Raises KeyError if there is none."""
    if name not in KINDS:
        raise KeyError(name)
    module = importlib.import_module(f"wolfbane.kinds.{name}.kind")
    kind: Kind[Any] = module.KIND
    return kind


def in_one_process(suites: Iterable[Suite]) -> frozenset[str]:
    """The names of the suites whose files all run in one process, in the order of their names."""
    return frozenset(s.name for s in suites if find_kind(s.kind).process_for(s) == "suite")
