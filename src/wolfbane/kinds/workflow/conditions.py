"""Simple conditions of Arazzo 1.0 (section "Criterion Object"): comparisons of expressions."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

from wolfbane.kinds.workflow.expressions import ABSENT, BadExpression, Expression, Untyped, read

Evaluate = Callable[[Expression], Any]

_TOKENS = re.compile(
    r"""\s*(?:
      (?P<expression>\$[A-Za-z](?:[\w.\-]|(?<=\.)[!$%&'*+^`|~])*(?:\#(?:/(?:[^\s()=!<>&|\[\]]|~[01])*)*)?)
    | (?P<number>-?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?)
    | (?P<text>'(?:[^']|'')*'|"[^"]*")
    | (?P<word>true|false|null)\b
    | (?P<sign>==|!=|<=|>=|&&|\|\||[<>!()\[\].])
    | (?P<name>[A-Za-z_][\w\-]*)
    )""",
    re.X,
)
_BODY = re.compile(r"(\$(?:request|response)\.body)\.([\w.\-]+)")
_COMPARISONS = ("==", "!=", "<", "<=", ">", ">=")


@dataclass(frozen=True)
class Operand:
    """A literal, or an expression with an access to its value: ``.name``, ``[2]``."""

    literal: Any = None
    expression: Expression | None = None
    path: tuple[str | int, ...] = ()

    @cached_property
    def text(self) -> str:
        """The expression as written. It is the key for comparing and reporting values."""
        path = "".join(f"[{p}]" if isinstance(p, int) else f".{p}" for p in self.path)
        return f"{self.expression}{path}"


@dataclass(frozen=True)
class Compare:
    """Two values and an operator; for a condition with one value, the operator is ``""``."""

    left: Operand
    sign: str = ""
    right: Operand = Operand()


@dataclass(frozen=True)
class Logic:
    """Parts joined by ``&&`` or ``||``, or one part after ``!``."""

    sign: str
    parts: tuple[Condition, ...]


Condition = Compare | Logic


@lru_cache(maxsize=4096)
def parse(text: str) -> Condition:
    """Parse a condition. Raises BadExpression with the position.

    The check of a document parses it first, and then every run of its step.
    """
    return _ConditionParser(text).whole()


def holds(condition: Condition, evaluate: Evaluate) -> bool:
    """Whether a condition is true. Texts are compared case-insensitively, as in the standard.

    Raises what ``evaluate`` raises, and TypeError for values that have no order.
    """
    if isinstance(condition, Logic):
        if condition.sign == "!":
            return not holds(condition.parts[0], evaluate)
        every = condition.sign == "&&"
        return (all if every else any)(holds(part, evaluate) for part in condition.parts)
    left = value_of(condition.left, evaluate)
    if not condition.sign:
        return left is not ABSENT and bool(left)
    return _compare(left, condition.sign, value_of(condition.right, evaluate))


def value_of(value: Operand, evaluate: Evaluate) -> Any:
    """The value itself; ABSENT if it does not exist. Raises what ``evaluate`` raises."""
    if value.expression is None:
        return value.literal
    result = evaluate(value.expression)
    for name in value.path:
        if isinstance(result, dict):
            result = result.get(str(name))
        elif isinstance(result, list) and isinstance(name, int) and name < len(result):
            result = result[name]
        else:
            return ABSENT
    return result


def actual_values(condition: Condition, evaluate: Evaluate) -> list[str]:
    """The values of a condition's expressions, as text: ``$statusCode is 404``; and a note where a
    text is compared with a number.
    """
    if isinstance(condition, Logic):
        actual = [shown for part in condition.parts for shown in actual_values(part, evaluate)]
        return list(dict.fromkeys(actual))
    told = [
        f"{value.text} is {_shown(value_of(value, evaluate))}"
        for value in (condition.left, condition.right)
        if value.expression is not None
    ]
    left, right = value_of(condition.left, evaluate), value_of(condition.right, evaluate)
    if condition.sign and {_type_of(left), _type_of(right)} == {"text", "number"}:
        told.append("the types differ: a text is not a number")
    return told


def _shown(value: Any) -> str:
    if value is None or isinstance(value, bool):
        return json.dumps(value)
    return repr(str(value) if isinstance(value, Untyped) else value)


def _type_of(value: Any) -> str:
    if isinstance(value, str):
        if isinstance(value, Untyped):
            return ""
        return "text"
    if _is_number(value):
        return "number"
    return ""


def expressions_of(condition: Condition) -> Iterator[Expression]:
    """Every expression that a condition compares."""
    if isinstance(condition, Logic):
        for part in condition.parts:
            yield from expressions_of(part)
        return
    for value in (condition.left, condition.right):
        if value.expression is not None:
            yield value.expression


def _compare(left: Any, sign: str, right: Any) -> bool:
    """Compare as JSON does, by type (RFC 8259, section 3).

    A text without a type is compared with a number by its value. A value that is absent equals
    null and nothing else; any other comparison with it is false, also ``!=``.
    """
    if left is ABSENT or right is ABSENT:
        if left is ABSENT:
            other = right
        else:
            other = left
        return sign in ("==", "<=", ">=") and (other is None or other is ABSENT)
    if isinstance(left, str) and isinstance(right, str):
        left, right = left.casefold(), right.casefold()
    elif _is_number(left) != _is_number(right):
        left, right = _as_number(left, right), _as_number(right, left)
    if sign in ("==", "!="):
        same = left == right and isinstance(left, bool) == isinstance(right, bool)
        if sign == "==":
            return same
        return not same
    if left is None or right is None or _is_number(left) != _is_number(right):
        return False
    if sign in ("<", "<="):
        return bool(left < right) or (sign == "<=" and left == right)
    return bool(left > right) or (sign == ">=" and left == right)


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _as_number(value: Any, other: Any) -> Any:
    """A text without a type as a number if it is compared with one."""
    if isinstance(value, Untyped) and _is_number(other):
        try:
            return float(value)
        except ValueError:
            return value
    return value


class _ConditionParser:
    def __init__(self, text: str) -> None:
        self.text = text
        self.tokens: list[tuple[str, str, int]] = []
        at = 0
        while text[at:].strip():
            match = _TOKENS.match(text, at)
            if match is None or match.lastgroup is None:
                start = at + len(text[at:]) - len(text[at:].lstrip())
                raise BadExpression(f"unexpected '{text[start]}'", text, start)
            self.tokens.append(
                (match.lastgroup, match[match.lastgroup], match.start(match.lastgroup))
            )
            at = match.end()
        self.at = 0

    def whole(self) -> Condition:
        if not self.tokens:
            raise BadExpression("the condition is empty", self.text, 0)
        condition = self.logic("||")
        if self.at < len(self.tokens):
            self.fail(f"unexpected '{self.tokens[self.at][1]}'")
        return condition

    def fail(self, message: str) -> None:
        position = self.tokens[self.at][2] if self.at < len(self.tokens) else len(self.text)
        raise BadExpression(message, self.text, position)

    def take(self, *signs: str) -> str:
        if self.at < len(self.tokens) and self.tokens[self.at][1] in signs:
            kind, text, _ = self.tokens[self.at]
            if kind == "sign":
                self.at += 1
                return text
        return ""

    def logic(self, sign: str) -> Condition:
        parts = [self.below(sign)]
        while self.take(sign):
            parts.append(self.below(sign))
        if len(parts) == 1:
            return parts[0]
        return Logic(sign, tuple(parts))

    def below(self, sign: str) -> Condition:
        if sign == "||":
            return self.logic("&&")
        return self.single()

    def single(self) -> Condition:
        if self.take("!"):
            return Logic("!", (self.single(),))
        if self.take("("):
            condition = self.logic("||")
            if not self.take(")"):
                self.fail("')' is missing")
            return condition
        left = self.value()
        sign = self.take(*_COMPARISONS)
        if sign:
            return Compare(left, sign, self.value())
        return Compare(left)

    def value(self) -> Operand:
        if self.at >= len(self.tokens):
            self.fail("a value is missing")
        kind, text, position = self.tokens[self.at]
        self.at += 1
        if kind == "number":
            return Operand(float(text) if re.search("[.eE]", text) else int(text))
        if kind == "text":
            return Operand(text[1:-1].replace("''", "'") if text[0] == "'" else text[1:-1])
        if kind == "word":
            return Operand({"true": True, "false": False, "null": None}[text])
        if kind == "expression":
            body = _BODY.match(text)  # '.' also takes a property out of a value
            text, inside = (body[1], body[2].split(".")) if body else (text, [])
            try:
                expression = read(text)
            except BadExpression as error:
                message = str(error).partition(":")[0]
                raise BadExpression(message, self.text, position + error.position) from None
            return Operand(None, expression, (*inside, *self.path()))
        self.at -= 1
        self.fail(f"'{text}' is not a value (put text in single quotes)")
        raise AssertionError

    def path(self) -> list[str | int]:
        path: list[str | int] = []
        while True:
            if self.take("["):
                kind, text, _ = self.tokens[self.at] if self.at < len(self.tokens) else ("", "", 0)
                if kind != "number" or not text.isdecimal():
                    self.fail("a number is missing")
                self.at += 1
                path.append(int(text))
                if not self.take("]"):
                    self.fail("']' is missing")
            elif self.take("."):
                if self.at >= len(self.tokens) or self.tokens[self.at][0] not in ("name", "word"):
                    self.fail("a name is missing")
                path.append(self.tokens[self.at][1])
                self.at += 1
            else:
                return path
