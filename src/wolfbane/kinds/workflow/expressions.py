"""Runtime expressions of Arazzo 1.0 (section "Runtime Expressions"), and texts with them."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from wolfbane.errors import did_you_mean, nearest

_NAME = r"[A-Za-z0-9_\-]+"
_TOKEN = r"[!#$%&'*+\-.^_`|~0-9A-Za-z]+"
HOLE = re.compile(r"\{(\$[^{}]*)\}")
_SIMPLE = ("url", "method", "statusCode")
_GROUPS = ("inputs", "outputs", "steps", "workflows", "sourceDescriptions", "components")
_HEADS = (*_SIMPLE, "request", "response", *_GROUPS)


class BadExpression(ValueError):
    """An invalid expression. ``position`` is the place in its text, from 0."""

    def __init__(self, message: str, text: str, position: int) -> None:
        self.text, self.position = text, position
        super().__init__(f"{message}: {text} (at character {position + 1})")


class Untyped(str):
    """A text without its own type: of a header, a path, a query, or a body that is not JSON.

    Criteria may compare it with a number. It stays what it is in outputs.
    """

    __slots__ = ()


class _Absent:
    """The value of an expression without a value. ``null`` in a response is a value."""

    def __bool__(self) -> bool:
        return False

    def __repr__(self) -> str:
        return "absent"


ABSENT = _Absent()


class NotJson(ValueError):
    """A JSON Pointer into a body that is not JSON. The text names both."""


@dataclass(frozen=True)
class Expression:
    """``$HEAD``, the names after it, and the JSON Pointer after ``#``, None without one.

    For ``$response.header.Location`` the names are ``("header", "Location")``.
    """

    head: str
    names: tuple[str, ...] = ()
    pointer: str | None = None

    def __str__(self) -> str:
        dotted = ".".join((f"${self.head}", *self.names))
        return dotted if self.pointer is None else f"{dotted}#{self.pointer}"


def read(text: str) -> Expression:
    """Parse a complete text as one expression. Raises BadExpression."""
    if not text.startswith("$"):
        raise BadExpression("an expression must start with '$'", text, 0)
    dotted, hash_sign, pointer = text.partition("#")
    head, *names = dotted[1:].split(".")
    at = len(head) + 2
    if head not in _HEADS:
        hint = did_you_mean(head, _HEADS)
        raise BadExpression(f"there is no ${head}; {hint}".removesuffix("; "), text, 0)
    if head in _SIMPLE:
        if names or hash_sign:
            raise BadExpression(f"nothing may follow ${head}", text, len(head) + 1)
        return Expression(head)
    if hash_sign and pointer and not pointer.startswith("/"):
        raise BadExpression("a JSON Pointer must start with '/'", text, len(dotted) + 1)
    result = None
    if hash_sign:
        result = pointer
    if head in ("request", "response"):
        return _of_message(text, head, names, pointer=result)
    if not names:
        raise BadExpression(f"${head} needs a name", text, at - 1)
    for name in names:
        if not re.fullmatch(_NAME, name):
            raise BadExpression(f"'{name}' is not a valid name", text, at)
        at += len(name) + 1
    _check_shape(text, head, names)
    return Expression(head, tuple(names), result)


def _of_message(text: str, head: str, names: list[str], pointer: str | None) -> Expression:
    at = len(head) + 2
    kind = ""
    if names:
        kind = names[0]
    if kind not in ("header", "query", "path", "body"):
        hint = did_you_mean(kind, ("header", "query", "path", "body"))
        raise BadExpression(f"there is no ${head}.{kind}; {hint}".removesuffix("; "), text, at)
    rest = ".".join(names[1:])
    if kind == "body":
        if rest:
            raise BadExpression("'body' must be followed by '#' and a JSON Pointer", text, at + 4)
        return Expression(head, ("body",), pointer)
    if pointer is not None and kind != "header":
        raise BadExpression(f"${head}.{kind} cannot have a JSON Pointer", text, text.index("#"))
    if not rest or (kind == "header" and not re.fullmatch(_TOKEN, rest)):
        raise BadExpression(f"${head}.{kind} needs a name", text, at + len(kind))
    return Expression(head, (kind, rest), pointer)


def _check_shape(text: str, head: str, names: list[str]) -> None:
    at = len(head) + len(names[0]) + 2
    if head == "steps" and (len(names) < 2 or names[1] != "outputs"):
        raise BadExpression("the name of a step must be followed by 'outputs'", text, at)
    if head == "workflows" and (len(names) < 2 or names[1] not in ("inputs", "outputs")):
        raise BadExpression(
            "the name of a workflow must be followed by 'inputs' or 'outputs'", text, at
        )


def is_expression(text: str) -> bool:
    """Whether a text is meant as one expression, valid or not."""
    return bool(re.match(rf"\$(?:{'|'.join(_HEADS)})\b", text))


def evaluate_value(value: Any, evaluate: Callable[[Expression], Any]) -> Any:
    """A value with every expression in it evaluated, at any depth.

    A text that is one expression becomes its value, of any type; ``{$...}`` inside a text is
    replaced by the value as text. If it is the whole text and the value is an object or an array,
    the text becomes this value.
    """
    if isinstance(value, str):
        if is_expression(value):
            return evaluate(read(value))
        if whole := HOLE.fullmatch(value):
            result = evaluate(read(whole[1]))
            if isinstance(result, dict | list):
                return result
            return as_text(result)
        return HOLE.sub(lambda hole: as_text(evaluate(read(hole[1]))), value)
    if isinstance(value, list):
        return [evaluate_value(item, evaluate) for item in value]
    if isinstance(value, dict):
        return {name: evaluate_value(item, evaluate) for name, item in value.items()}
    return value


def as_text(value: Any) -> str:
    """The form of a value inside a text."""
    if isinstance(value, str):
        return value
    import json

    return json.dumps(value, ensure_ascii=False)


def looks_like_expression(text: str) -> bool:
    """Whether a text is an expression, or would be one with one corrected word: ``$input.day``."""
    head = re.match(r"\$([A-Za-z]+)(?:[.#]|$)", text)
    return is_expression(text) or (head is not None and nearest(head[1], _HEADS) is not None)


def expressions_in(value: Any) -> list[str]:
    """The texts of all expressions in a value, to check them in advance."""
    if isinstance(value, str):
        if looks_like_expression(value):
            return [value]
        return HOLE.findall(value)
    if isinstance(value, list):
        return [text for item in value for text in expressions_in(item)]
    if isinstance(value, dict):
        return [text for item in value.values() for text in expressions_in(item)]
    return []
