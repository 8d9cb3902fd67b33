"""Reads YAML and JSON documents, and records the line of every value."""

from __future__ import annotations

import json
import re
from functools import cached_property
from typing import Any

_NULL = re.compile(r"~|null|Null|NULL|")
_BOOLEAN = re.compile(r"true|True|TRUE|false|False|FALSE")
_INTEGER = re.compile(r"[-+]?[0-9]+|0o[0-7]+|0x[0-9a-fA-F]+")
_NUMBER = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?")


class DocumentError(ValueError):
    """A document that cannot be read; ``line`` is the place, from 1."""

    def __init__(self, message: str, line: int = 1) -> None:
        self.line = line
        super().__init__(message)


class Document:
    """A document's ``data``, and the lines of its values by JSON Pointer (RFC 6901).

    Scalars are read with the core schema of YAML 1.2, so ``on`` and dates remain texts.
    """

    def __init__(self, text: str) -> None:
        self.text = text
        self.data: Any
        if text.lstrip()[:1] in ("{", "["):
            try:
                self.data = json.loads(text)
                return
            except json.JSONDecodeError as error:
                raise DocumentError(f"not valid JSON: {error.msg}", error.lineno) from None
            except RecursionError:
                raise DocumentError(_TOO_DEEP) from None
        self.data = self._read[0]

    def line(self, pointer: str) -> int:
        """The line of the value at a pointer, or of the nearest value around it."""
        try:
            lines = self._read[1]
        except DocumentError:  # JSON that is no YAML: rare, and the lines are only for people
            return 1
        while pointer and pointer not in lines:
            pointer = pointer.rpartition("/")[0]
        return lines.get(pointer, 1)

    @cached_property
    def _read(self) -> tuple[Any, dict[str, int]]:
        import yaml  # takes a while, and a document in JSON may do without

        lines: dict[str, int] = {}
        loader: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
        try:
            node = yaml.compose(self.text, Loader=loader)
            data = None
            if node is not None:
                data = _Values(lines).of(node, "", ())
        except yaml.MarkedYAMLError as error:
            mark = error.problem_mark or error.context_mark
            where = 1
            if mark:
                where = mark.line + 1
            raise DocumentError(f"not valid YAML: {error.problem}", where) from None
        except RecursionError:
            raise DocumentError(_TOO_DEEP) from None
        except yaml.YAMLError as error:
            raise DocumentError(f"not valid YAML: {error}") from None
        return data, lines


_TOO_DEEP = "the document is nested too deeply"
_MOST_REPEATED = 100_000
"""Maximum number of values that aliases may repeat: a few lines can expand to more than fits in
memory.
"""


def step(name: object) -> str:
    """A step of a JSON Pointer: ``/`` and the name, escaped."""
    return "/" + str(name).replace("~", "~0").replace("/", "~1")


def look_up(data: Any, pointer: str) -> Any:
    """The value at a JSON Pointer. Raises KeyError."""
    if pointer == "":
        return data
    if not pointer.startswith("/"):
        raise KeyError(pointer)
    for part in pointer[1:].split("/"):
        name = part.replace("~1", "/").replace("~0", "~")
        if isinstance(data, dict) and name in data:
            data = data[name]
        elif (
            isinstance(data, list) and re.fullmatch("0|[1-9][0-9]*", name) and int(name) < len(data)
        ):
            data = data[int(name)]
        else:
            raise KeyError(pointer)
    return data


class _Values:
    """Converts nodes to values, with their lines."""

    def __init__(self, lines: dict[str, int]) -> None:
        self._lines = lines
        self._seen: set[int] = set()
        self._repeated = 0

    def of(self, node: Any, pointer: str, above: tuple[int, ...]) -> Any:
        """The value of a node; ``above`` are its parent nodes. Raises DocumentError."""
        line = node.start_mark.line + 1
        self._count(node, line)
        self._lines.setdefault(pointer, line)
        if node.id == "scalar":
            return _scalar(node)
        if id(node) in above:
            raise DocumentError("an alias contains itself", line)
        inside = (*above, id(node))
        if node.id == "sequence":
            return [self.of(n, pointer + step(i), inside) for i, n in enumerate(node.value)]
        mapping: dict[str, Any] = {}
        for key, value in node.value:
            name = str(key.value)
            line = key.start_mark.line + 1
            if name in mapping:
                raise DocumentError(f"duplicate key '{name}'", line)
            self._lines[pointer + step(name)] = line
            mapping[name] = self.of(value, pointer + step(name), inside)
        return mapping

    def _count(self, node: Any, line: int) -> None:
        self._repeated += id(node) in self._seen
        self._seen.add(id(node))
        if self._repeated > _MOST_REPEATED:
            message = f"the aliases expand to more than {_MOST_REPEATED:,} values"
            raise DocumentError(message, line)


def _scalar(node: Any) -> Any:
    text = str(node.value)
    tag = str(node.tag)
    if node.style or (tag.endswith(":str") and not _plain_is_special(text)):
        return text
    if _NULL.fullmatch(text):
        return None
    if _BOOLEAN.fullmatch(text):
        return text.lower() == "true"
    if _INTEGER.fullmatch(text):
        if text[:2] in ("0o", "0x"):
            return int(text, 0)
        return int(text)
    if _NUMBER.fullmatch(text):
        return float(text)
    return text


def _plain_is_special(text: str) -> bool:
    """Whether a plain scalar has a meaning in YAML 1.2 that a YAML 1.1 reader ignores."""
    return bool(_INTEGER.fullmatch(text) or _NUMBER.fullmatch(text))
