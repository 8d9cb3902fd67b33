"""Finds the tests that match an expression. Uses only the model."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import lru_cache
from typing import Protocol

from wolfbane.errors import ExpressionError
from wolfbane.model import Outcome, Test, variant
from wolfbane.selection.fields import Matching, field_of
from wolfbane.selection.grammar import And, Expression, Not, Term

Predicate = Callable[[Test], bool]
TextTest = Callable[[str], bool]
_FAILURES = frozenset(str(outcome) for outcome in Outcome if outcome.is_failure)
_LINE = re.compile(r"(.+):(\d+)")


class _FileLike(Protocol):
    @property
    def path(self) -> str: ...
    @property
    def suite(self) -> str: ...
    @property
    def kind(self) -> str: ...


class Matcher:
    """A compiled expression for matching many tests.

    ``status`` maps an address to the outcome of its newest recorded attempt.
    """

    def __init__(self, expression: Expression, status: Mapping[str, str] | None = None) -> None:
        self.expression = expression
        self._status = status or {}
        self._holds = self._compile(expression)

    def __call__(self, test: Test) -> bool:
        return self._holds(test)

    def _compile(self, expression: Expression) -> Predicate:
        if isinstance(expression, Term):
            return self._term(expression)
        if isinstance(expression, Not):
            inner = self._compile(expression.item)
            return lambda test: not inner(test)
        parts = [self._compile(item) for item in expression.items]
        if isinstance(expression, And):
            return lambda test: all(part(test) for part in parts)
        return lambda test: any(part(test) for part in parts)

    def _term(self, term: Term) -> Predicate:
        if term.among is not None:
            among = term.among
            return lambda test: test.path in among or test.address in among
        field = field_of(term.field)
        if field.matching is Matching.LOOKED_UP:
            raise ExpressionError(f"'{field.name}:' can be used only in selections", str(term), 0)
        if field.matching is Matching.ADDRESS:
            return _address_test(term.value)
        check = lru_cache(maxsize=None)(text_test(term))
        texts, status = field.texts, self._status
        if field.matching is Matching.OUTCOME:
            return lambda test: any(map(check, texts(test, status.get(test.address, "new"))))
        return lambda test: any(map(check, texts(test, "")))


def wanted_outcomes(expressions: Iterable[Expression]) -> TextTest | None:
    """Whether a recorded outcome matches the ``status:`` terms; None without such terms.

    ``new`` and ``slower`` are not outcomes, and negated terms do not count.
    """
    terms = [term for expression in expressions for term in _asked_statuses(expression)]
    checks = [text_test(term) for term in terms]
    if checks:
        return lambda outcome: any(check(outcome) for check in checks)
    return None


def _asked_statuses(expression: Expression) -> Iterator[Term]:
    if isinstance(expression, Term):
        if expression.field == "status" and expression.value.lower() not in ("new", "slower"):
            yield expression
    elif not isinstance(expression, Not):
        for item in expression.items:
            yield from _asked_statuses(item)


def text_test(term: Term) -> TextTest:
    """The check that a term makes of one text. Case counts only in regular expressions."""
    value, matching = term.value.lower(), field_of(term.field).matching
    if matching is Matching.OUTCOME:
        value = value.replace("-", " ")  # a shell's word for "timed out"
    if term.style == "regex":
        search = re.compile(term.value).search
        return lambda text: search(text) is not None
    if matching is Matching.PATH:
        return _file_test(value.rstrip("/"), literal=term.style == "quoted")
    if term.style == "word" and ("*" in value or "?" in value):
        whole = re.compile(fnmatch.translate(value)).match
        return lambda text: whole(text.lower()) is not None
    if matching is Matching.PART:
        return lambda text: value in text.lower()
    if matching is Matching.OUTCOME and value == "failed":
        return lambda text: text in _FAILURES
    if matching is Matching.OUTCOME and value == "assertion":
        return lambda text: text == Outcome.FAILED
    return lambda text: text.lower() == value


def _file_test(value: str, *, literal: bool) -> TextTest:
    """Quoted: exactly this path, or all paths below it.

    Plain: any sequence of path segments. Or a glob.
    """
    if not literal and ("*" in value or "?" in value):
        whole = re.compile(path_pattern(value)).fullmatch
        return lambda text: whole(text.lower()) is not None
    if literal:
        return lambda text: text.lower() == value or text.lower().startswith(value + "/")
    value = value.removeprefix("./")
    return lambda text: f"/{value}/" in f"/{text.lower()}/"


def path_pattern(glob: str) -> str:
    """A path glob as a regular expression: ``*`` matches in a segment, ``**`` across segments."""
    parts = re.split(r"(\*\*/?|\*|\?)", glob)
    made = {"**/": "(?:.*/)?", "**": ".*", "*": "[^/]*", "?": "[^/]"}
    return "".join(made.get(part, re.escape(part)) for part in parts)


def _address_test(value: str) -> Predicate:
    """An address, the address of a class, a file, or ``FILE:LINE``.

    An address without a browser or an environment means the test in all of them.
    """

    def holds(test: Test) -> bool:
        if not value.startswith(test.path):
            return False
        return any(_is_at(test, address) for address in _without_variant(value, test))

    return holds


def _without_variant(value: str, test: Test) -> Iterator[str]:
    """The value, and the value without the variant at its end."""
    yield value
    for ending in {
        variant("", test.browser, ""),
        variant("", test.browser, test.target),
        variant("", "", test.target),
    }:
        if ending and value.endswith(ending):
            yield value.removesuffix(ending)


def _is_at(test: Test, value: str) -> bool:
    if value in (test.worker_address, test.path) or test.worker_address.startswith(f"{value} / "):
        return True
    match = _LINE.fullmatch(value)
    if match is None or match[1] != test.path:
        return False
    return not test.name or test.line <= int(match[2]) <= max(test.end, test.line)


def may_match(expression: Expression, file: _FileLike, *, unknown: bool = False) -> bool | None:
    """Whether tests of a file match, judged by the file alone; None if that is not sufficient.

    ``unknown`` is for tests of the file that were never seen: their status is new.
    """
    if isinstance(expression, Term):
        return _file_term(expression, file, unknown=unknown)
    if isinstance(expression, Not):
        inner = may_match(expression.item, file, unknown=unknown)
        if inner is None:
            return None
        return not inner
    verdicts = [may_match(item, file, unknown=unknown) for item in expression.items]
    decisive = not isinstance(expression, And)
    if decisive in verdicts:
        return decisive
    if None in verdicts:
        return None
    return not decisive


def _file_term(term: Term, file: _FileLike, *, unknown: bool) -> bool | None:
    if term.field == "status" and unknown:
        return text_test(term)("new")
    if term.field == "changed" and term.among is not None:
        return file.path in term.among
    if term.field in ("suite", "kind"):
        return text_test(term)(getattr(file, term.field))
    if term.field == "file":
        return text_test(term)(file.path)
    if field_of(term.field).matching is Matching.ADDRESS:
        inside = term.value.startswith((f"{file.path}#", f"{file.path}:", f"{file.path} @"))
        if inside or term.value == file.path:
            return None
        return False
    return None
