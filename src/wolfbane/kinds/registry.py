"""The registry of all kinds. A kind is imported when a suite needs it for the first time."""

from __future__ import annotations

import importlib
from functools import cache
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from wolfbane.kinds.contract import Kind

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
