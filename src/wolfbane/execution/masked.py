"""Every event goes through the mask before anybody hears of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields, is_dataclass, replace
from typing import Any

from wolfbane.environments import Mask
from wolfbane.events import Event
from wolfbane.model import Result


def masked(event: Event, mask: Mask) -> Event:
    """The event without secrets. Results are built without them, and are passed on as they are."""
    return _masked(event, mask) if mask.hides_something else event


def _masked(value: Any, mask: Callable[[str], str]) -> Any:
    if type(value) is str:
        return mask(value)
    if isinstance(value, Result):
        return value
    if is_dataclass(value) and not isinstance(value, type):
        changes = {item.name: _masked(getattr(value, item.name), mask) for item in fields(value)}
        return replace(value, **changes)
    if isinstance(value, tuple | list):
        return type(value)(_masked(item, mask) for item in value)
    if isinstance(value, dict):
        return {_masked(key, mask): _masked(item, mask) for key, item in value.items()}
    return value
