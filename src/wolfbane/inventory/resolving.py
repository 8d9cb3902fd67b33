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


def resolved(expression: Expression, inventory: Inventory) -> Expression:
    """The expression with ``changed:``, ``machine:`` and ``status:slower`` resolved.

    Raises InputError.
    """
    if isinstance(expression, Term):
        return _looked_up(expression, inventory)
    if isinstance(expression, Not):
        return Not(resolved(expression.item, inventory))
    items = tuple(resolved(item, inventory) for item in expression.items)
    return And(items) if isinstance(expression, And) else Or(items)


def _looked_up(term: Term, inventory: Inventory) -> Term:
    workspace = inventory.workspace
    if term.field == "changed":
        from wolfbane.inventory.affected import affected
        from wolfbane.workspace.revisions import changed_paths

        changed = changed_paths(workspace.root, term.value)
        return replace(term, among=affected(workspace, inventory.files, changed))
    if term.field == "machine":
        return replace(term, among=_ran_on(term, Newest(workspace.caches).by_machine()))
    if term.field == "status" and term.value.lower() == SLOWER:
        from wolfbane.results.slower import slower_tests  # a database's library takes a while

        return replace(term, among=slower_tests(workspace))
    return term


def _ran_on(term: Term, by_machine: Mapping[str, Sequence[str]]) -> dict[str, str]:
    """The tests whose last run was on machines that a term names.

    Raises InputError for unknown machines.
    """
    check = text_test(term)
    found = {
        address: f"its last run was on {machine}"
        for machine, addresses in by_machine.items()
        if check(machine)
        for address in addresses
    }
    if not found:
        hint = did_you_mean(term.value, by_machine) or "no test has run on a machine of a cluster"
        raise InputError(Problem(f"no test had its last run on machine '{term.value}'", hint=hint))
    return found
