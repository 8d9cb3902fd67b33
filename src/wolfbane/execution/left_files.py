"""Files that tests leave behind, as workers send them."""

from __future__ import annotations

from base64 import b64decode
from collections.abc import Mapping
from typing import Any

from wolfbane.execution.channel import Message


def content_of(message: Message) -> str | bytes:
    """What a test leaves behind: a text, in which secrets are masked, or bytes."""
    return str(message["text"]) if "text" in message else b64decode(message["data"])


def with_paths(value: Any, marks: Mapping[str, str]) -> Any:
    """What a test told, with paths of kept files in the place of their marks."""
    if isinstance(value, str):
        for mark, path in marks.items():
            value = value.replace(mark, path)
        return value
    if isinstance(value, list):
        return [with_paths(item, marks) for item in value]
    if isinstance(value, Mapping):
        return {key: with_paths(item, marks) for key, item in value.items()}
    return value
