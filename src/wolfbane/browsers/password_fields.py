"""Secrets of a session: the texts that its suite types into password fields."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from wolfbane.browsers.evidence.command_log import ReceivedCommand
from wolfbane.browsers.evidence.page_inspector import PageLooks
from wolfbane.environments import Mask

SHORTEST = 4
"""Characters. Shorter texts are part of many words, so only their own field hides them."""
_SPECIAL = re.compile("[\ue000-\uf8ff]")
"""The keys without text (https://www.w3.org/TR/webdriver2/#keyboard-actions)."""
_BACKSPACE = "\ue003"


class TypedSecrets:
    """The contents of password fields of one session, and a mask for them.

    A suite may type a password key by key: the beginnings are not secrets themselves.
    """

    def __init__(self) -> None:
        self._fields: dict[str, str] = {}
        self._over: set[str] = set()
        self._mask: Mask | None = Mask(())

    def type(self, element: str, keys: str) -> None:
        """A suite typed keys into a password field."""
        *over, self._fields[element] = _pieces(keys, self._fields.get(element, ""))
        self._over.update(over)
        self._mask = None

    def clear(self, element: str) -> None:
        """A field may be empty now."""
        if element in self._fields:  # it stays a password field
            self._over.add(self._fields[element])
            self._fields[element] = ""

    def add(self, values: Iterable[str]) -> None:
        """Complete contents of password fields."""
        if new := {value for value in values if value} - self._over:
            self._over |= new
            self._mask = None

    def __contains__(self, element: object) -> bool:
        return element in self._fields

    @property
    def texts(self) -> frozenset[str]:
        """All secrets that are long enough to be replaced in any text."""
        every = {*self._over, *self._fields.values()}
        return frozenset(text for text in every if len(text) >= SHORTEST)

    def mask(self, text: str) -> str:
        """A text without them."""
        if self._mask is None:
            self._mask = Mask(self.texts)
        return self._mask(text)


class PasswordFields:
    """Learns what a suite types into the password fields of a session."""

    def __init__(self, looks: PageLooks) -> None:
        self._looks = looks
        self.secrets = TypedSecrets()

    async def is_typed_into(self, command: ReceivedCommand) -> bool:
        """Whether a command types into a password field. Raises DialogOpened."""
        if command.name == "Element Send Keys":
            return await self._learn(command.places["element"], command)
        if command.name == "Element Clear":
            self.secrets.clear(command.places["element"])
        return command.name == "Perform Actions" and await self.has_focus(command)

    async def has_focus(self, command: ReceivedCommand) -> bool:
        """Whether the keys of Perform Actions go to a password field. Raises DialogOpened."""
        if not typed_keys(command.parameters):
            return False
        active = await self._looks.ask("GET", "element/active")
        if not isinstance(active, Mapping):
            return False
        return await self._learn(str(next(iter(active.values()), "")), command)

    async def _learn(self, element: str, command: ReceivedCommand) -> bool:
        # A page may turn it to a text field and back: it stays a password field.
        if element not in self.secrets:
            kind = await self._looks.ask("GET", f"element/{element}/property/type")
            if kind != "password":
                return False
        self.secrets.type(element, typed_keys(command.parameters))
        return True


def _pieces(keys: str, text: str) -> Iterator[str]:
    """The texts between keys that may move to another place. ``text`` was there before."""
    for key in keys:
        if key == _BACKSPACE:
            text = text[:-1]
        elif _SPECIAL.match(key):
            yield text
            text = ""
        else:
            text += key
    yield text


def typed_keys(parameters: Mapping[str, Any]) -> str:
    """The text that a command types: Element Send Keys, or the pressed keys of Perform Actions."""
    if isinstance(text := parameters.get("text"), str):
        return text
    if isinstance(text := parameters.get("value"), list):  # the form before the standard
        return "".join(map(str, text))
    keys = []
    for source in _objects(parameters.get("actions")):
        for action in _objects(source.get("actions")):
            if action.get("type") == "keyDown":
                keys.append(str(action.get("value", "")))
    return "".join(keys)


def _objects(value: Any) -> Iterator[Mapping[str, Any]]:
    if isinstance(value, list):
        for item in value:
            if isinstance(item, Mapping):
                yield item
