"""Learns the key names in a launcher's JSON events."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from wolfbane.kinds.bridge.learning.vocabulary import Vocabulary
from wolfbane.model import Outcome

_NAMES = ("name", "test", "title", "check", "case", "id")
_GROUPS = ("group", "suite", "class", "classname", "module")
_MILLISECONDS = ("ms", "milliseconds", "duration_ms", "time_ms", "elapsed_ms")
_SECONDS = ("seconds", "duration", "time", "elapsed")
_MESSAGES = ("message", "error", "reason", "failure")
_OURS = frozenset(map(str, Outcome))


def event_table(data: bytes, hints: Sequence[str], vocabulary: Vocabulary) -> dict[str, Any] | None:
    """``[read]`` if each line is a JSON object with a name and an outcome; otherwise None."""
    events = _objects(data)
    if not events:
        return None
    shared = [key for key in events[0] if all(isinstance(e.get(key), str) for e in events)]
    outcome = next((k for k in shared if all(vocabulary.outcome(e[k]) for e in events)), "")
    others = [key for key in shared if key != outcome]
    name = next((k for k in others if any(e[k] in hints for e in events)), "")
    name = name or next((k for k in _NAMES if k in others), "")
    if not (outcome and name):
        return None
    keys = {"name": name, "outcome": outcome}
    every = {key for event in events for key in event}
    for part, usual in (
        ("group", _GROUPS),
        ("milliseconds", _MILLISECONDS),
        ("seconds", _SECONDS),
        ("message", _MESSAGES),
    ):
        if usual_key := next(
            (key for key in usual if key in every and key not in keys.values()), ""
        ):
            keys[part] = usual_key
    outcomes = {event[outcome]: vocabulary.outcome(event[outcome]) for event in events}
    table: dict[str, Any] = {"format": "events"}
    if own := {part: key for part, key in keys.items() if part != key}:
        table["keys"] = own
    if strange := {word: meant for word, meant in outcomes.items() if word not in _OURS}:
        table["outcomes"] = strange
    return table


def _objects(data: bytes) -> list[Mapping[str, Any]]:
    """The object on each line; none if a line contains something else."""
    objects: list[Mapping[str, Any]] = []
    for line in data.splitlines():
        if line.strip():
            try:
                value = json.loads(line)
            except ValueError:
                return []
            if not isinstance(value, dict):
                return []
            objects.append(value)
    return objects
