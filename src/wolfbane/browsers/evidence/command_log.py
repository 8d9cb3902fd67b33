"""Describes a browser command as a sentence: the command, its target, the response and the
duration.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

import msgspec

from wolfbane.browsers.endpoints import ELEMENT, SHADOW, Endpoint, find

HIDDEN = "*****"
_LONGEST = 80
_HOLE = re.compile(r"\{(\w+)\}")


class BrowserCommand(msgspec.Struct, frozen=True):
    """A command that was executed. ``at`` is in seconds since the start of the session."""

    session: str
    test: str
    at: float
    seconds: float
    sentence: str
    status: int
    answer: str

    def __str__(self) -> str:
        return f"{self.sentence}: {self.answer}, {self.seconds * 1000:.0f} ms"


class ReceivedCommand(msgspec.Struct, frozen=True):
    """A command as received, and its endpoint. ``is_private``: its typed text is hidden."""

    endpoint: Endpoint
    places: Mapping[str, str]
    parameters: Mapping[str, Any]
    method: str
    path: str
    body: bytes
    is_private: bool = True

    @classmethod
    def read(cls, method: str, path: str, body: bytes) -> ReceivedCommand:
        """Find out which command it is."""
        return cls(*find(method, path), read_parameters(body), method, path, body)

    @property
    def name(self) -> str:
        """The name of its endpoint."""
        return self.endpoint.name

    @property
    def reads_value(self) -> bool:
        """Whether it reads the value of an element."""
        reads = self.name in ("Get Element Property", "Get Element Attribute")
        return reads and self.places["name"] == "value"

    def description(self, names: ElementNames) -> str:
        """The command as a sentence."""
        return sentence(
            self.endpoint, self.places, self.parameters, names=names, private=self.is_private
        )


def read_parameters(body: bytes) -> Mapping[str, Any]:
    """The parameters in the body of a command; none if it has no JSON object."""
    try:
        if body:
            data = json.loads(body)
        else:
            data = {}
    except ValueError:
        return {}
    if isinstance(data, Mapping):
        return data
    return {}


class ElementNames:
    """The locators of elements, used to name the elements."""

    def __init__(self) -> None:
        self._found: dict[str, str] = {}

    def learn(self, body: Mapping[str, Any], value: Any) -> None:
        """Remember the locators of the elements in a response."""
        typed = f"'{shortened(str(body.get('value', '')))}'"
        if isinstance(value, list):
            items = value
        else:
            items = [value]
        for number, item in enumerate(items, 1):
            if isinstance(item, Mapping) and ELEMENT in item:
                position = ""
                if isinstance(value, list):
                    position = f" ({number} of {len(items)})"
                self._found[item[ELEMENT]] = typed + position

    def __getitem__(self, element: str) -> str:
        return self._found.get(element, f"element {element[-8:]}")


def sentence(
    endpoint: Endpoint,
    places: Mapping[str, str],
    body: Mapping[str, Any],
    names: ElementNames,
    *,
    private: bool = False,
) -> str:
    """The command as a sentence. ``private``: hide the typed text."""
    values = {**body, **places}

    def word(hole: re.Match[str]) -> str:
        key = hole[1]
        if key == "all":
            return _plain(body)
        if key == "element" and key in places:
            return names[places[key]]
        if private and key in ("text", "actions", "value"):
            return HIDDEN
        value = values.get(key, "nothing")
        if key in ("using", "name", "type", "url"):
            return shortened(str(value))
        return _plain(_named(value, names))

    return _HOLE.sub(word, endpoint.description)


def answer(endpoint: Endpoint, status: int, value: Any, names: ElementNames) -> str:
    """The response in short, or the error if the command failed."""
    if status >= 400:
        if isinstance(value, Mapping):
            fields = value
        else:
            fields = {}
        message = str(fields.get("message", "")).partition("\n")[0]
        return f"{fields.get('error', 'unknown error')} ({shortened(message)})"
    if value is None:
        return "done"
    if endpoint.name == "New Session":
        return "done"
    if "screenshot" in endpoint.path or endpoint.path == "print":
        return f"{len(str(value)) * 3 // 4:,} bytes"
    if endpoint.path == "source":
        return f"{len(str(value)):,} characters"
    if isinstance(value, list) and endpoint.name.startswith("Find"):
        return f"{len(value)} found"
    if isinstance(value, Mapping) and (ELEMENT in value or SHADOW in value):
        if endpoint.name.startswith(("Find", "Get")):
            return "found"
        return _plain(_named(value, names))
    return _plain(_named(value, names))


def shortened(text: str, longest: int = _LONGEST) -> str:
    """A text on one line. The middle of a long text is omitted."""
    text = " ".join(text.split())
    if len(text) <= longest:
        return text
    half = (longest - 5) // 2
    return f"{text[:half]} ... {text[-half:]}"


def _named(value: Any, names: ElementNames) -> Any:
    if isinstance(value, Mapping):
        if ELEMENT in value:
            return names[str(value[ELEMENT])]
        return {key: _named(item, names) for key, item in value.items()}
    if isinstance(value, list):
        return [_named(item, names) for item in value]
    return value


def _plain(value: Any) -> str:
    if isinstance(value, str):
        return f"'{shortened(value)}'"
    return shortened(json.dumps(value, ensure_ascii=False))
