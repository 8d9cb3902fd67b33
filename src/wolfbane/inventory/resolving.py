"""Terms whose tests follow from git or the history: looked up before anything matches."""

from __future__ import annotations

from dataclasses import replace

from wolfbane.inventory.scan import Inventory
from wolfbane.selection import And, Expression, Not, Or, Term

SLOWER = "slower"


def resolved(expression: Expression, inventory: Inventory) -> Expression:
    """The expression with ``changed:REV`` and ``status:slower`` looked up. Raises InputError."""
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
    if term.field == "status" and term.value.lower() == SLOWER:
        from wolfbane.results.slower import slower_tests  # a database's library takes a while

        return replace(term, among=slower_tests(workspace))
    return term
