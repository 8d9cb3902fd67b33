"""Masks secrets in every event before the listeners receive it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from wolfbane.environments import Mask
from wolfbane.events.run_events import Event
from wolfbane.model import Result


def masked(event: Event, mask: Mask) -> Event:
    """The event without secrets. Results are built without them, and are passed on unchanged."""
    return _masked(event, mask) if mask.hides_something else event


def masked_texts(result: Result, mask: Mask) -> Result:
    """A result whose messages, output and parts have no secrets. Its names stay."""
    names = ("message", "trace", "excerpt", "output", "parts", "about")
    masked = {name: _masked(getattr(result, name), mask) for name in names}
    return replace(result, **masked, earlier=tuple(masked_texts(e, mask) for e in result.earlier))


def _masked(value: Any, mask: Callable[[str], str]) -> Any:
    if type(value) is str:
        return mask(value)
    if isinstance(value, Result):
        return value
    if isinstance(value, Struct):
        names = value.__struct_fields__
        return replace(value, **{name: _masked(getattr(value, name), mask) for name in names})
    if isinstance(value, tuple | list):
        return type(value)(_masked(item, mask) for item in value)
    if isinstance(value, dict):
        return {_masked(key, mask): _masked(item, mask) for key, item in value.items()}
    return value
