"""Explains why a test is selected or not: each term of the selection, and whether the test matches
it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from wolfbane.model import Test
from wolfbane.selection.explain import Choice
from wolfbane.selection.grammar import Expression, Term, terms_of
from wolfbane.selection.match import Matcher


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
    yield _reason("selection", choice.expression, test, status)
    for drop in choice.drops:
        yield _reason("--drop", drop, test, status)
    if choice.leave_out is not None:
        yield _reason("leave_out", choice.leave_out, test, status)


def _reason(source: str, expression: Expression, test: Test, status: Mapping[str, str]) -> Reason:
    terms = dict.fromkeys(terms_of(expression))
    reasons = () if isinstance(expression, Term) else tuple(
        (str(term), Matcher(term, status)(test)) for term in terms
    )  # fmt: skip
    found = [term.among or {} for term in terms]
    why = [among.get(test.path) or among.get(test.address) for among in found]
    holds = Matcher(expression, status)(test)
    return Reason(source, str(expression), holds, reasons, tuple(filter(None, why)))
