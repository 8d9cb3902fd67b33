"""Finds tests with a command that lists them."""

from __future__ import annotations

import os
import re
import tempfile
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import msgspec

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.formats.reported import FormatError, nesting_limit
from wolfbane.formats.tap.parser import Point, TapReader
from wolfbane.kinds.bridge.runner.calls import filled
from wolfbane.kinds.bridge.runner.launching import launch
from wolfbane.kinds.worker.channel import Channel, Message
from wolfbane.model import NESTED

_SAID = 2000
"""Characters of a command's output that its failure shows."""


@dataclass(frozen=True)
class Listed:
    """A test of a list; ``file`` is as written there."""

    name: str
    group: str = ""
    file: str = ""
    line: int = 0
    tags: tuple[str, ...] = ()


class Lister:
    """Lists the tests of files with the bridge's list command."""

    def __init__(self, channel: Channel, options: Message) -> None:
        self._channel = channel
        self._root: str = options["root"]
        self._listing: Mapping[str, Any] | None = options["bridge"]["find"]["listing"]
        self._nested: str = options["bridge"]["run"]["names"]["nested"]
        self._known = {f"param.{key}": value for key, value in options["values"].items()}
        self._known["root"] = self._root
        self._of_all: list[Listed] | None = None
        self._trouble: FormatError | None = None

    def collect(self, path: str) -> None:
        """Report the tests of a file, or the reason why they are unknown."""
        message: Message = {"type": "collected", "file": path, "divisible": False}
        self._channel.send({"type": "collecting", "file": path})
        if self._listing is None:  # the core would know them if they could be found
            reason = "the tests of this file cannot be found"
            self._channel.send({**message, "outcome": "errored", "message": reason})
            return
        try:
            tests = self._tests(self._listing, path)
        except FormatError as error:
            self._channel.send({**message, "outcome": "errored", "message": error.message})
            return
        seen: Counter[str] = Counter()
        for test in tests:
            group = NESTED.join(filter(None, test.group.split(self._nested)))
            if group:
                name = f"{group}{NESTED}{test.name}"
            else:
                name = test.name
            seen[name] += 1
            again = seen[name] > 1
            address = f"{path}#{name} ({seen[name]})" if again else f"{path}#{name}"
            told_of: Message = {"type": "test", "address": address, "tags": list(test.tags)}
            told_of.update({"line": test.line} if test.line > 0 else {}, group=group)
            told_of["called"] = test.name if again or NESTED in test.name else ""
            self._channel.hold(told_of)
        self._channel.send(message)

    @nesting_limit()
    def _tests(self, listing: Mapping[str, Any], path: str) -> list[Listed]:
        file = os.path.join(self._root, path)
        if any("{file}" in argument for argument in listing["command"]):
            return self._ask(listing, {**self._known, "file": os.path.relpath(file)})
        if self._of_all is None and self._trouble is None:
            try:
                self._of_all = self._ask(listing, self._known)
                _all_in_files(self._of_all)
            except FormatError as error:
                self._trouble = error
        if self._trouble:  # of every file, for any may have tests that are not told
            raise self._trouble
        return [test for test in self._of_all or () if os.path.abspath(test.file) == file]

    def _ask(self, listing: Mapping[str, Any], known: Mapping[str, str]) -> list[Listed]:
        with tempfile.TemporaryDirectory(prefix="list-") as scratch:
            command = filled(listing["command"], {}, "", {**known, "scratch": scratch})
            printed: list[bytes] = []
            try:
                ended = launch(command, {}, None, printed.append, apart=True)
            except OSError as error:
                raise FormatError(f"cannot start the list command: {error}") from None
        text = b"".join(printed).decode("utf-8", "replace")
        if ended.code != 0:
            message = f"the list command failed: {how_it_ended(ended.code)}"
            why = ended.errors.strip() or text
            raise FormatError(f"{message}\n{why[:_SAID]}".strip())
        if listing["format"] == "tap":
            names = _by_tap(text, self._nested)
        else:
            names = (_by_json if listing["format"] == "json" else _by_lines)(text, listing)
        return [test if test.file else replace(test, file=listing["file"]) for test in names]


def _all_in_files(tests: Iterable[Listed]) -> None:
    for test in tests:
        if not test.file:
            message = f"the list does not give the file of '{test.name}'"
            raise FormatError(f"{message}; use {{file}} in the command, or set find.listing.file")
        if not os.path.exists(test.file):
            raise FormatError(f"the list contains {test.file}, but this file does not exist")


def _by_lines(text: str, listing: Mapping[str, Any]) -> Iterator[Listed]:
    pattern = re.compile(listing["pattern"])
    for line in text.splitlines():
        if match := pattern.search(line):
            groups = {key: value or "" for key, value in match.groupdict().items()}
            tags = tuple(re.findall(r"[^\s,]+", groups.get("tags", "")))
            at = groups.get("line", "")
            yield Listed(
                name=groups["name"],
                group=groups.get("group", ""),
                file=groups.get("file", ""),
                line=int(at) if at.isdecimal() else 0,
                tags=tags,
            )


def _by_json(text: str, listing: Mapping[str, Any]) -> Iterator[Listed]:
    from jsonpath_rfc9535 import find

    try:
        items = find(listing["items"], _parsed(text)).values()
    except (msgspec.DecodeError, ValueError) as error:
        raise FormatError(f"the list is not JSON: {error}") from None
    for item in items:
        yield Listed(item) if isinstance(item, str) else _of_object(item, listing["keys"])


def _parsed(text: str) -> Any:
    """A JSON value, or the values of lines with one each."""
    try:
        return msgspec.json.decode(text)
    except (msgspec.DecodeError, ValueError):
        lines = [line for line in text.splitlines() if line.strip()]
        if not lines or not lines[0].rstrip().endswith(("}", '"')):
            raise
        return [msgspec.json.decode(line) for line in lines]


def _of_object(item: Any, keys: Mapping[str, str]) -> Listed:
    if not isinstance(item, Mapping) or not isinstance(item.get(keys["name"]), str):
        raise FormatError(f"the list has an item without '{keys['name']}': {str(item)[:120]}")
    line, tags = item.get(keys["line"]), item.get(keys["tags"])
    texts: Iterable[Any] = tags if isinstance(tags, Iterable) else []
    if isinstance(tags, str):
        texts = [tags]
    return Listed(
        name=item[keys["name"]],
        group=str(item.get(keys["group"]) or ""),
        file=str(item.get(keys["file"]) or ""),
        line=line if isinstance(line, int) else 0,
        tags=tuple(map(str, texts)),
    )


def _by_tap(text: str, nested: str) -> Iterator[Listed]:
    reader = TapReader()
    for line in text.splitlines():
        reader.feed(line)
    document = reader.finish()
    if document.problems:
        raise FormatError(f"the list is not valid: {document.problems[0]}")
    for point in document.points:
        yield from _points(point, (), nested)


def _points(point: Point, around: tuple[str, ...], nested: str) -> Iterator[Listed]:
    if not point.points:
        yield Listed(name=point.name, group=nested.join(around), file=point.file, line=point.line)
    for inner in point.points:
        yield from _points(inner, (*around, point.name), nested)
