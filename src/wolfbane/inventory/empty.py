"""What to say when a selection chooses nothing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from wolfbane.errors import NothingChosen
from wolfbane.inventory.scan import Inventory
from wolfbane.inventory.unclaimed import in_words, unclaimed
from wolfbane.model import Test
from wolfbane.selection import Choice, Expression, Matcher, choose, term_counts


def nothing_chosen(
    inventory: Inventory, choice: Choice, status: Mapping[str, str], *, to_run: bool = False
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
        counts = term_counts(expression, tests, status)
        lines += [str(count) for count in counts]
        apart = len(counts) > 1 and all(count.matches for count in counts)
        if apart and expression is choice.expression and _is_empty(expression, tests, status):
            lines.append("each of them matches tests, but no test matches all of them together")
    left_out = choose(choice, tests, status).left_out
    lines += [f"{count} left out by {rule}" for rule, count in left_out.items()]
    if any(rule.startswith("leave_out") for rule in left_out):
        lines.append("--everything runs what leave_out keeps away")
    words = "Nothing was chosen, so nothing was run." if to_run else "Nothing was chosen."
    return NothingChosen(words, lines)


def _is_empty(expression: Expression, tests: Sequence[Test], status: Mapping[str, str]) -> bool:
    matches = Matcher(expression, status)
    return not any(matches(test) for test in tests)
