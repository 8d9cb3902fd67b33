"""Explains a selection: the number of tests that each term matches, and the tests that each rule
excludes.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec

from wolfbane.errors import nearest
from wolfbane.model import Test
from wolfbane.selection.fields import field_of
from wolfbane.selection.grammar import EVERYTHING, Expression, Term, terms_of
from wolfbane.selection.match import Matcher

FOCUS = "focus ('only' in the source)"


class Choice(msgspec.Struct, frozen=True):
    """A selection: an expression, the excluded expressions, and the leave_out setting.

    With ``quarantined``, the tests that it matches are also excluded.

    With ``focus``, if the source of a file marks tests as the only ones to run, its other tests are
    excluded.
    """

    expression: Expression = EVERYTHING
    drops: tuple[Expression, ...] = ()
    leave_out: Expression | None = None
    quarantined: Expression | None = None
    focus: bool = True

    def __str__(self) -> str:
        parts = [f"({self.expression})" if self.drops else str(self.expression)]
        if self.drops and self.expression == EVERYTHING:
            parts = []
        return " and ".join([*parts, *(f"not ({drop})" for drop in self.drops)])

    @property
    def untraced(self) -> Sequence[str]:
        """The changed files that no test is known to use."""
        terms = [term for each in (self.expression, *self.drops) for term in terms_of(each)]
        return list(dict.fromkeys(path for term in terms for path in term.untraced))

    def rules(self) -> list[tuple[str, Expression]]:
        """The rules that exclude tests, each with its name for reports."""
        named = [(f"--drop {drop}", drop) for drop in self.drops]
        if self.leave_out is not None:
            named.append((f"leave_out {self.leave_out}", self.leave_out))
        if self.quarantined is not None:
            named.append(("quarantine", self.quarantined))
        return named


class Verdict(msgspec.Struct, frozen=True):
    """The selected tests, and the number of tests that each rule excluded."""

    chosen: tuple[Test, ...]
    left_out: dict[str, int]


class TermCount(msgspec.Struct, frozen=True):
    """The number of tests that one term matches alone; ``hint`` is the nearest value in use."""

    term: Term
    matches: int
    total: int
    hint: str = ""

    def __str__(self) -> str:
        tests = "tests"
        if self.total == 1:
            tests = "test"
        line = f"{self.term} matches {self.matches} of {self.total} {tests}"
        if self.hint:
            return f"{line}; did you mean {self.hint}?"
        return line


def choose(choice: Choice, tests: Iterable[Test], status: Mapping[str, str]) -> Verdict:
    """Apply a selection to tests; keeps their order."""
    if choice == Choice():
        return _focused(tuple(tests), Counter())
    matcher = Matcher(choice.expression, status)
    rules = [(name, Matcher(expression, status)) for name, expression in choice.rules()]
    chosen: list[Test] = []
    left_out: Counter[str] = Counter()
    for test in tests:
        if not matcher(test):
            continue
        for name, rule in rules:
            if rule(test):
                left_out[name] += 1
                break
        else:
            chosen.append(test)
    if choice.focus:
        return _focused(chosen, left_out)
    return Verdict(tuple(chosen), dict(left_out))


def _focused(chosen: Sequence[Test], left_out: Counter[str]) -> Verdict:
    """If the source marks tests as the only ones to run, remove the other tests of the file.

    Tests inside such a test stay.
    """
    focused = {(test.path, test.name) for test in chosen if test.focused}
    paths = {path for path, _ in focused}
    kept = [
        test
        for test in chosen
        if test.path not in paths
        or any((test.path, name) in focused for name in (test.name, *test.ancestors))
    ]
    if len(kept) < len(chosen):
        left_out[FOCUS] = len(chosen) - len(kept)
    return Verdict(tuple(kept), dict(left_out))


def term_counts(
    expression: Expression, tests: Sequence[Test], status: Mapping[str, str]
) -> list[TermCount]:
    """Count each term separately for all tests; terms without matches get a hint."""
    counts = []
    for term in dict.fromkeys(terms_of(expression)):
        matcher = Matcher(term, status)
        matches = sum(1 for test in tests if matcher(test))
        hint = ""
        if not matches:
            hint = _hint(term, tests, status)
        counts.append(TermCount(term=term, matches=matches, total=len(tests), hint=hint))
    return counts


def _hint(term: Term, tests: Sequence[Test], status: Mapping[str, str]) -> str:
    if term.style == "regex":
        return ""
    uses = values_in_use(term.field, tests, status)
    if close := nearest(term.value, uses):
        return f"{Term(term.field, close, term.style)} ({uses[close]})"
    if term.field == "tag":
        for tag in {tag for test in tests for tag in test.tags if tag.key}:
            if tag.word.lower() == term.value.lower():
                return f"{Term(tag.key, tag.word)} ({uses[tag.text]})"
    return ""


def values_in_use(field: str, tests: Iterable[Test], status: Mapping[str, str]) -> Counter[str]:
    """All values of a field, with the number of tests for each."""
    declared = field_of(field)
    texts = declared.similar or declared.texts
    uses: Counter[str] = Counter()
    for test in tests:
        outcome = status.get(test.address, "new")
        uses.update(set(texts(test, outcome)))
    return uses


class Reason(msgspec.Struct, frozen=True):
    """A part of a selection: its source, its text, and whether the test matches it.

    ``why`` are the texts of terms that were resolved.
    """

    source: str
    text: str
    holds: bool
    terms: tuple[tuple[str, bool], ...]
    why: tuple[str, ...] = ()


def reasons(choice: Choice, test: Test, status: Mapping[str, str]) -> Iterator[Reason]:
    """The selection, each drop and the leave-out, in the order of application."""
    yield _reason("selection", choice.expression, test, status=status)
    for drop in choice.drops:
        yield _reason("--drop", drop, test, status=status)
    if choice.leave_out is not None:
        yield _reason("leave_out", choice.leave_out, test, status=status)


def _reason(source: str, expression: Expression, test: Test, status: Mapping[str, str]) -> Reason:
    terms = dict.fromkeys(terms_of(expression))
    reasons = (
        ()
        if isinstance(expression, Term)
        else tuple((str(term), Matcher(term, status)(test)) for term in terms)
    )
    pools = [term.among or {} for term in terms]
    why = [among.get(test.path) or among.get(test.address) for among in pools]
    holds = Matcher(expression, status)(test)
    return Reason(
        source=source,
        text=str(expression),
        holds=holds,
        terms=reasons,
        why=tuple(filter(None, why)),
    )
