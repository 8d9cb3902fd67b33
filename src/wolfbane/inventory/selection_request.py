"""Turns the selection options of the command line into a checked selection."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.inventory.paths import paths_expression
from wolfbane.inventory.resolving import NAME, resolved
from wolfbane.inventory.scan import Inventory
from wolfbane.kinds.registry import KINDS
from wolfbane.selection import (
    FIELDS,
    Choice,
    Expression,
    Field,
    Term,
    all_of,
    field_terms,
    parse,
    terms_of,
)
from wolfbane.selection.fields import Matching
from wolfbane.workspace.vocabulary import STATUSES


class SelectionRequest(msgspec.Struct, frozen=True):
    """A selection as typed: paths, ``--FIELD`` values, ``--pick`` and ``--drop``.

    ``changed_unknown``: the effect of changed files that no test is known to use, NAME or ALL.
    """

    paths: Sequence[str] = ()
    fields: Mapping[str, Sequence[str]] = msgspec.field(default_factory=dict)
    pick: Sequence[str] = ()
    drop: Sequence[str] = ()
    everything: bool = False
    changed_unknown: str = NAME


def read_choice(request: SelectionRequest, inventory: Inventory, folder: Path) -> Choice:
    """Read and check a selection. Raises InputError or ExpressionError."""
    parts = [paths_expression(inventory, request.paths, folder)]
    parts += [field_terms(name, values) for name, values in _narrowing(request.fields)]
    parts += [parse(text) for text in request.pick]
    unknown = request.changed_unknown
    drops = tuple(resolved(parse(text), inventory, unknown) for text in request.drop)
    leave_out = inventory.workspace.settings.workspace.leave_out
    standing = None
    if leave_out and not request.everything:
        standing = parse(leave_out)
    standing = resolved(standing, inventory, unknown) if standing else None
    choice = Choice(
        resolved(all_of(parts), inventory, unknown), drops, standing, focus=not request.everything
    )
    problems = [
        problem
        for expression in (choice.expression, *drops)
        for problem in _unknown(expression, inventory)
    ]
    if problems:
        raise InputError(*problems)
    return choice


def _narrowing(fields: Mapping[str, Sequence[str]]) -> Iterator[tuple[str, Sequence[str]]]:
    """The narrowing fields; ``--browser all`` means every browser that suites list."""
    for name, values in fields.items():
        if values and not (name == "browser" and "all" in values):
            yield name, values


def _unknown(expression: Expression, inventory: Inventory) -> list[Problem]:
    """Fields, suites, kinds and browsers that do not exist here."""
    suites = inventory.workspace.suites
    known = {
        "suites": [suite.name for suite in suites],
        "kinds": list(KINDS),
        "browsers": [name for suite in suites for name in suite.browsers],
        "statuses": list(STATUSES),
    }
    problems = []
    for term in terms_of(expression):
        field = FIELDS.get(term.field)
        if field is None:
            keys = {tag.key for test in inventory.tests for tag in test.tags if tag.key}
            if term.field not in keys:
                hint = did_you_mean(term.field, {*FIELDS, *keys})
                problems.append(Problem(f"unknown field '{term.field}:'", hint=hint))
        elif field.only_known and _is_plain(term):
            problems += _unknown_value(term, field, known[field.completed_from])
    return problems


def _unknown_value(term: Term, field: Field, known: Sequence[str]) -> Iterator[Problem]:
    value, outcome = term.value.lower(), field.matching is Matching.OUTCOME
    if outcome:
        value = value.replace(" ", "-")
    if value not in (name.lower() for name in known):
        hint = did_you_mean(term.value, known) or f"this workspace has no {field.name}"
        if outcome and "there is" not in hint:
            hint += f" (known: {', '.join(known)})"
        yield Problem(f"unknown {field.name} '{term.value}'", hint=hint)


def _is_plain(term: Term) -> bool:
    return term.style != "regex" and not any(mark in term.value for mark in "*?")
