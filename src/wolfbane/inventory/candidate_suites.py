"""Finds the files and suites that may contain selected tests, without starting a worker."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from wolfbane.inventory.scan import Inventory
from wolfbane.kinds.suite import Suite
from wolfbane.model import TestFile
from wolfbane.selection import EVERYTHING, Choice, Expression, Matcher, all_of, may_match
from wolfbane.selection.grammar import Not


def files_to_ask(
    inventory: Inventory, choice: Choice, status: Mapping[str, str], target: str = ""
) -> list[TestFile]:
    """The files that may contain a selected test.

    If the source shows all tests of a file, they decide. If the file may contain more (inherited,
    generated), its path, suite and kind decide.
    """
    wanted: Expression = all_of([choice.expression, *(Not(rule) for _, rule in choice.rules())])
    if wanted == EVERYTHING:
        return list(inventory.files.values())
    matches = Matcher(wanted, status)
    promising = {test.path for test in inventory.tests_at(target) if matches(test)}
    return [
        file
        for file in inventory.files.values()
        if file.path in promising
        or (not file.complete and may_match(wanted, file, unknown=True) is not False)
        or (may_match(choice.expression, file) is True and not file.tests)
    ]


def files_that_may_have_more(inventory: Inventory, choice: Choice) -> list[TestFile]:
    """The files that may contain selected tests that only loading the file shows."""
    wanted: Expression = all_of([choice.expression, *(Not(rule) for _, rule in choice.rules())])
    return [
        file
        for file in inventory.files.values()
        if not (file.complete or file.exact or file.error)
        and may_match(wanted, file, unknown=True) is not False
    ]


def suites_in_play(
    inventory: Inventory, choice: Choice, status: Mapping[str, str], targets: Iterable[str]
) -> list[Suite]:
    """The suites that may contain a selected test, including suites without a file yet."""
    suites = {
        file.suite
        for target in targets
        for file in files_to_ask(inventory, choice, status, target=target)
    }
    have_files = {file.suite for file in inventory.files.values()}
    return [
        suite
        for suite in inventory.workspace.suites
        if suite.name in suites
        or (
            suite.name not in have_files
            and may_match(choice.expression, TestFile("", suite.name, suite.kind), unknown=True)
            is not False
        )
    ]
