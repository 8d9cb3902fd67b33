"""Resolves terms that need git or the history, before matching."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.inventory.scan import Inventory
from wolfbane.results.newest import Newest
from wolfbane.selection import And, Expression, Not, Or, Term
from wolfbane.selection.match import text_test

SLOWER = "slower"
NAME, ALL = "name", "all"
"""The effect of changed files that no test is known to use: they are named, or affect all tests."""


def resolved(expression: Expression, inventory: Inventory, unknown: str = NAME) -> Expression:
    """The expression with ``changed:``, ``machine:`` and ``status:slower`` resolved.

    ``unknown`` is NAME or ALL. Raises InputError.
    """
    if isinstance(expression, Term):
        return _looked_up(expression, inventory, unknown)
    if isinstance(expression, Not):
        return Not(resolved(expression.item, inventory, unknown))
    items = tuple(resolved(item, inventory, unknown) for item in expression.items)
    if isinstance(expression, And):
        return And(items)
    return Or(items)


def _looked_up(term: Term, inventory: Inventory, unknown: str) -> Term:
    workspace = inventory.workspace
    if term.field == "changed":
        return _changed(term, inventory, unknown)
    if term.field == "machine":
        return replace(term, among=_ran_on(term, Newest(workspace.caches).by_machine()))
    if term.field == "status" and term.value.lower() == SLOWER:
        from wolfbane.results.history.queries import (
            slower_tests,  # a database's library takes a while
        )

        return replace(term, among=slower_tests(workspace))
    return term


def _changed(term: Term, inventory: Inventory, unknown: str) -> Term:
    # Imported late, because only this field reads sources for their imports.
    from wolfbane.inventory.affected import affected
    from wolfbane.workspace.changed_settings import changed_suites
    from wolfbane.workspace.git import changed_paths

    workspace = inventory.workspace
    own = f"{workspace.settings.workspace.results.rstrip('/')}/"
    changed = {p for p in changed_paths(workspace.root, term.value) if not p.startswith(own)}
    settings = changed_suites(workspace, term.value, changed)
    affected_files = affected(workspace, inventory.files, changed, settings=settings)
    reached = dict(affected_files.files)
    if affected_files.unknown and unknown == ALL:
        why = f"{affected_files.unknown[0]} has changed, and no test is known to use it"
        reached = {path: reached.get(path, why) for path in inventory.files}
    return replace(term, among=reached, untraced=tuple(affected_files.unknown))


def _ran_on(term: Term, by_machine: Mapping[str, Sequence[str]]) -> dict[str, str]:
    """The tests whose last run was on machines that a term names.

    Raises InputError for unknown machines.
    """
    check = text_test(term)
    places = {
        address: f"its last run was on {machine}"
        for machine, addresses in by_machine.items()
        if check(machine)
        for address in addresses
    }
    if not places:
        hint = did_you_mean(term.value, by_machine) or "no test has run on a machine of a cluster"
        raise InputError(Problem(f"no test had its last run on machine '{term.value}'", hint=hint))
    return places
