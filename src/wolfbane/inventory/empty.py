"""The message for a selection that matches no tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from wolfbane.errors import NothingChosen
from wolfbane.inventory.scan import Inventory
from wolfbane.inventory.unclaimed import how_to_claim, in_words, unclaimed
from wolfbane.inventory.untraced import ADVICE, untraced_words
from wolfbane.model import Test
from wolfbane.selection import Choice, Expression, Matcher, choose, term_counts


def nothing_chosen(
    inventory: Inventory, choice: Choice, status: Mapping[str, str], *, to_run: bool = False
) -> NothingChosen:
    """The error for an empty selection: the count of each term, and the excluded tests."""
    tests = inventory.tests
    if not tests:
        names = ", ".join(suite.name for suite in inventory.workspace.suites)
        nowhere = "there are no suites here; 'wolfbane init' writes an example"
        lines = [f"suites: {names}" if names else nowhere]
        if lost := unclaimed(inventory):
            lines += [in_words(lost), *how_to_claim(inventory, lost)]
        if unread := sum(not file.complete for file in inventory.files.values()):
            files = "1 file"
            if unread != 1:
                files = f"{unread} files"
            lines.append(f"more tests may appear after loading {files}: wolfbane list --exact")
        return NothingChosen(
            f"Nothing to run: no tests were found in {inventory.workspace.root}.", lines
        )
    lines = []
    for expression in (choice.expression, *choice.drops):
        counts = term_counts(expression, tests, status)
        lines += [str(count) for count in counts]
        apart = len(counts) > 1 and all(count.matches for count in counts)
        if apart and expression is choice.expression and _is_empty(expression, tests, status):
            lines.append("each term matches some tests, but no test matches all terms")
    if choice.untraced:
        lines += [f"changed: {untraced_words(choice.untraced)}", ADVICE]
    left_out = choose(choice, tests, status).left_out
    lines += [f"{count} excluded by {rule}" for rule, count in left_out.items()]
    if any(rule.startswith("leave_out") for rule in left_out):
        lines.append("use --everything to include tests that leave_out excludes")
    message = "No tests match the selection."
    if to_run:
        message = "No tests match the selection, so no tests were run."
    return NothingChosen(message, lines)


def _is_empty(expression: Expression, tests: Sequence[Test], status: Mapping[str, str]) -> bool:
    matches = Matcher(expression, status)
    return not any(matches(test) for test in tests)
