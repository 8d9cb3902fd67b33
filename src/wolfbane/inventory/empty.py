"""What to say when a selection chooses nothing."""

from __future__ import annotations

from collections.abc import Mapping

from wolfbane.errors import NothingChosen
from wolfbane.inventory.scan import Inventory
from wolfbane.inventory.unclaimed import in_words, unclaimed
from wolfbane.selection import Choice, choose, term_counts


def nothing_chosen(
    inventory: Inventory, choice: Choice, status: Mapping[str, str]
) -> NothingChosen:
    """The error for an empty selection: each term's own count, and what was taken away."""
    tests = inventory.tests
    if not tests:
        names = ", ".join(suite.name for suite in inventory.workspace.suites)
        nowhere = "there is no suite here; 'wolfbane init' writes down how one looks"
        lines = [f"suites: {names}" if names else nowhere]
        if lost := unclaimed(inventory):
            lines.append(in_words(lost))
        if unread := sum(not file.complete for file in inventory.files.values()):
            files = "1 file tells" if unread == 1 else f"{unread} files tell"
            lines.append(f"{files} more when loaded: wolfbane list --exact")
        return NothingChosen(
            f"Nothing to run: no test was found in {inventory.workspace.root}.", lines
        )
    lines = []
    for expression in (choice.expression, *choice.drops):
        lines += [str(count) for count in term_counts(expression, tests, status)]
    left_out = choose(choice, tests, status).left_out
    lines += [f"{count} left out by {rule}" for rule, count in left_out.items()]
    if any(rule.startswith("leave_out") for rule in left_out):
        lines.append("--everything runs what leave_out keeps away")
    return NothingChosen("Nothing was chosen, so nothing was run.", lines)
