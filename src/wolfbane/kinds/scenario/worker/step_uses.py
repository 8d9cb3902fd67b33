"""Lists all steps, and their uses in feature files."""

from __future__ import annotations

import os
from typing import Any, Dict, List, Tuple

from wolfbane.kinds.scenario.worker import feature as features
from wolfbane.kinds.scenario.worker.stepbook import Definition, StepBook, location_of
from wolfbane.kinds.worker.channel import Channel, Message

Use = Tuple[str, int, str]


def tell_uses(channel: Channel, book: StepBook, root: str, files: List[str]) -> None:
    """Send each definition with its uses, and then the undefined steps.

    Files that cannot be read are left out: running them shows the error.
    """
    uses: Dict[int, List[Use]] = {id(definition): [] for definition in book.definitions}
    undefined: List[Use] = []
    for path in files:
        for use, kind in _steps(root, path):
            matches = book.find(kind, use[2]).matches
            for definition, _ in matches:
                uses[id(definition)].append(use)
            if not matches:
                undefined.append(use)
    for definition in book.definitions:
        channel.hold(_message_of(definition, root, uses[id(definition)]))
    channel.send({"type": "listed", "undefined": undefined})


def _steps(root: str, path: str) -> List[Tuple[Use, str]]:
    """Every step of a file, once for each different text in the rows of an outline."""
    try:
        with open(os.path.join(root, path), encoding="utf-8-sig") as file:
            feature = features.read(file.read())
    except (OSError, ValueError):
        return []
    uses: Dict[Tuple[Use, str], None] = {}
    for scenario in feature.scenarios:
        for step in scenario.steps:
            uses[(path, step.line, step.text), step.kind] = None
    return list(uses)


def _message_of(definition: Definition, root: str, uses: List[Use]) -> Message:
    file, line = location_of(definition.function)
    message: Dict[str, Any] = {"type": "step", "kind": definition.kind, "pattern": definition.text}
    inside = os.path.relpath(file, root)
    message.update(file=file if inside.startswith("..") else inside, line=line, uses=uses)
    message["function"] = definition.function.__name__
    return message
