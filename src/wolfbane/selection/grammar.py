"""The grammar of selection expressions.

    expression  = and-part { "or" and-part }
    and-part    = not-part { "and" not-part }
    not-part    = "not" not-part | "(" expression ")" | term
    term        = [ field ":" ] value { "," value }
    value       = word | quoted text | "/" regular expression "/"

A backslash in a word or a quoted text makes the next character literal.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec

from wolfbane.errors import ExpressionError
from wolfbane.selection.fields import OLD_NAMES, Matching, field_of

_KEYWORDS = ("and", "or", "not")
_TOKEN = re.compile(
    r"""\s*(?:
        (?P<open>\() | (?P<close>\)) |
        (?P<field>[A-Za-z_][\w.-]*):(?=\S) |
        (?P<quoted>"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*') |
        (?P<regex>/(?:[^/\\]|\\.)+/(?=[\s),]|$)) |
        (?P<word>(?:\\.|[^\s()",'\\])+) |
        (?P<comma>,)
    )""",
    re.VERBOSE,
)


class Term(msgspec.Struct, frozen=True, eq=False):
    """One ``field:value``. ``style`` is ``word``, ``quoted`` or ``regex``.

    ``among`` are the paths and addresses that match a resolved term, with reasons. Terms are equal
    at any position: ``position`` does not count, and neither does ``among``. ``untraced`` are the
    changed files of ``changed:`` that no test is known to use.
    """

    field: str
    value: str
    style: str = "word"
    position: int = 0
    among: Mapping[str, str] | None = None
    untraced: Sequence[str] = ()

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Term) and self._key() == other._key()

    def __hash__(self) -> int:
        return hash(self._key())

    def _key(self) -> tuple[str, str, str]:
        return self.field, self.value, self.style

    def __str__(self) -> str:
        return f"{self.field}:{_written(self.value, self.style)}"


class Not(msgspec.Struct, frozen=True):
    """True if ``item`` is false."""

    item: Expression

    def __str__(self) -> str:
        return f"not {_nested(self.item)}"


class And(msgspec.Struct, frozen=True):
    """True if every item is true. Without items, always true."""

    items: tuple[Expression, ...]

    def __str__(self) -> str:
        return " and ".join(_nested(item) for item in self.items) or "everything"


class Or(msgspec.Struct, frozen=True):
    """True if at least one item is true."""

    items: tuple[Expression, ...]

    def __str__(self) -> str:
        return " or ".join(_nested(item) for item in self.items)


Expression = Term | Not | And | Or
EVERYTHING = And(())


def all_of(items: Iterable[Expression]) -> Expression:
    """The items joined by ``and``, without unnecessary nesting."""
    kept = tuple(item for item in items if item != EVERYTHING)
    if len(kept) == 1:
        return kept[0]
    return And(kept)


def any_of(items: Iterable[Expression]) -> Expression:
    """The items joined by ``or``, without unnecessary nesting."""
    kept = tuple(items)
    if len(kept) == 1:
        return kept[0]
    return Or(kept)


def terms_of(expression: Expression) -> Iterator[Term]:
    """Every term inside an expression, left to right."""
    if isinstance(expression, Term):
        yield expression
    elif isinstance(expression, Not):
        yield from terms_of(expression.item)
    else:
        for item in expression.items:
            yield from terms_of(item)


def field_terms(name: str, values: Iterable[str]) -> Expression:
    """The meaning of ``--NAME VALUE --NAME VALUE``: the values are alternatives.

    Raises ExpressionError for a value that cannot be parsed.
    """
    return any_of(_ExpressionParser(value, only_field=name).values_only() for value in values)


def parse(text: str) -> Expression:
    """Parse an expression. Raises ExpressionError with the position."""
    return _ExpressionParser(text).whole()


_DEEPEST = 100


class _ExpressionParser:
    def __init__(self, text: str, only_field: str = "") -> None:
        self.text = text
        self.only_field = only_field
        self.at = self.depth = 0
        self.kind, self.value, self.start = "", "", 0
        self.next()

    def next(self) -> None:
        if not self.text[self.at :].strip():
            self.kind, self.value, self.start = "end", "", len(self.text.rstrip())
            return
        match = _TOKEN.match(self.text, self.at)
        if match is None:
            position = self.at + len(self.text[self.at :]) - len(self.text[self.at :].lstrip())
            mark = self.text[position]
            what = (
                f"the closing quote {mark} is missing" if mark in "\"'" else f"unexpected {mark!r}"
            )
            raise ExpressionError(what, self.text, position)
        kind = match.lastgroup or ""
        self.kind, self.value, self.start = kind, match[kind], match.start(kind)
        self.at = match.end()
        if kind == "word" and self.value.lower() in _KEYWORDS:
            self.kind = self.value.lower()

    def fail(self, message: str, position: int | None = None) -> ExpressionError:
        return ExpressionError(message, self.text, self.start if position is None else position)

    def whole(self) -> Expression:
        if self.kind == "end":
            raise self.fail("the expression is empty")
        expression = self.or_part()
        if self.kind == "close":
            raise self.fail("this ')' has no matching '('")
        if self.kind != "end":
            raise self.fail("connect terms with 'and' or 'or', or put text with spaces in quotes")
        return expression

    def or_part(self) -> Expression:
        items = [self.and_part()]
        while self.kind == "or":
            self.next()
            items.append(self.and_part())
        return any_of(items)

    def and_part(self) -> Expression:
        items = [self.not_part()]
        while self.kind == "and":
            self.next()
            items.append(self.not_part())
        return all_of(items)

    def not_part(self) -> Expression:
        if self.depth == _DEEPEST:
            raise self.fail(f"parentheses and 'not' are nested deeper than {_DEEPEST} levels")
        self.depth += 1
        try:
            return self.inner_part()
        finally:
            self.depth -= 1

    def inner_part(self) -> Expression:
        if self.kind == "not":
            self.next()
            return Not(self.not_part())
        if self.kind == "open":
            opened = self.start
            self.next()
            inner = self.or_part()
            if self.kind != "close":
                raise self.fail("this '(' has no matching ')'", opened)
            self.next()
            return inner
        return self.term()

    def term(self) -> Expression:
        name = "name"
        if self.kind == "field":
            name = self.value.lower()
            name = OLD_NAMES.get(name, name)
            self.next()
        return self.values(name)

    def values(self, name: str) -> Expression:
        values = [self.one_value(name)]
        while self.kind == "comma":
            self.next()
            values.append(self.one_value(name))
        return any_of(values)

    def one_value(self, name: str) -> Term:
        if self.kind in ("and", "or", "not", "end", "close", "open", "comma"):
            token = "the end" if self.kind == "end" else f"'{self.value}'"
            raise self.fail(f"expected a term here, found {token}")
        value, style, start = self.value, "word", self.start
        if self.kind == "word" and value.endswith(":") and not value.endswith("\\:"):
            raise self.fail(f"expected a value after '{value}'", start + len(value))
        if self.kind == "quoted":
            value, style = _unescaped(value[1:-1]), "quoted"
        elif self.kind == "regex":
            value, style = value[1:-1].replace("\\/", "/"), "regex"
            self.check_regex(value, start)
        elif self.kind == "field":
            self.next()
            value = f"{value}:{_unescaped(self.value)}"
        else:
            value = _unescaped(value)
        self.next()
        return Term(field=name, value=value, style=style, position=start)

    def check_regex(self, value: str, start: int) -> None:
        try:
            re.compile(value)
        except re.error as error:
            position = start + 1 + (error.pos or 0)
            raise self.fail(f"not a regular expression: {error.msg}", position) from None

    def values_only(self) -> Expression:
        """The whole text as values of one field; text that is not a list of values is one value."""
        if self.kind in ("quoted", "regex"):
            expression = self.values(self.only_field)
            if self.kind == "end":
                return expression
            raise self.fail("unexpected text after the closing quote or slash")
        tokens = [word.strip() for word in self.text.split(",")]
        if not all(tokens):
            raise ExpressionError(f"--{self.only_field} has an empty value", self.text, 0)
        return any_of(Term(self.only_field, word, self.style_of(word)) for word in tokens)

    def style_of(self, word: str) -> str:
        """Quotes are easier to read than backslashes, if they have the same meaning."""
        path = field_of(self.only_field).matching is Matching.PATH
        plain = path or re.search(r"[*?]", word)
        if not plain and re.search(r"[\s()\"',:\\]", word):
            return "quoted"
        return "word"


def _unescaped(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text)


def _written(value: str, style: str) -> str:
    """A value in a form that gives the same term when it is parsed."""
    if style == "regex":
        return "/" + re.sub(r"(?<!\\)/", r"\\/", value) + "/"
    if style == "quoted" or not value.strip():
        escaped = value.replace("\\", "\\\\").replace('"', '\\"')
        return f'"{escaped}"'
    safe = re.sub(r"""([\s()"',:\\])""", r"\\\1", value)
    if value.lower() in _KEYWORDS or value.startswith("/"):
        return f"\\{safe}"
    return safe


def _nested(item: Expression) -> str:
    if isinstance(item, And | Or):
        return f"({item})"
    return str(item)
