"""``wolfbane explain``."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli import words
from wolfbane.cli.selecting import Selected, selection_options
from wolfbane.errors import InputError, Problem, nearest

if TYPE_CHECKING:
    from wolfbane.inventory import Inventory
    from wolfbane.model import Test


@click.command("explain")
@click.argument("address", shell_complete=words.paths)
@selection_options
def command(select: Callable[[], Selected], address: str) -> None:
    """Say what is known of the test at ADDRESS, and why a selection chooses it or not.

    ADDRESS is PATH#NAME as 'wolfbane list' prints it, or FILE:LINE; the end of one is enough
    where only one test has it.

    \b
    wolfbane explain 'tests/fees/test_fees.py#WinterFee / test_late_fee'
    wolfbane explain tests/fees/test_fees.py:12
    wolfbane explain test_late_fee --tag smoke
    """
    from wolfbane.reports.explained import explained
    from wolfbane.reports.style import make_console

    selected = select()
    test = _find(selected.inventory, address)
    browsers: list[str] = [test.browser] if test.browser else []
    make_console().print(explained(test, selected.choice, selected.newest, browsers))


def _at_line(inventory: Inventory, address: str) -> list[Test]:
    from wolfbane.inventory.paths import paths_expression
    from wolfbane.selection import Matcher

    if not re.fullmatch(r"[^#]+:\d+", address):
        return []
    matches = Matcher(paths_expression(inventory, [address], Path.cwd()))
    return [test for test in inventory.tests if matches(test)]


def _find(inventory: Inventory, address: str) -> Test:
    tests = inventory.tests
    for matches in (
        _at_line(inventory, address),
        [test for test in tests if test.address == address],
        [test for test in tests if test.address.endswith(address)],
        [test for test in tests if test.address == address.rpartition(" @")[0]],
    ):
        if len(matches) == 1:
            return matches[0]
        if matches:
            names = "\n  ".join(test.address for test in matches[:10])
            more = f"\n  and {len(matches) - 10} more" if len(matches) > 10 else ""
            raise InputError(f"'{address}' stands for {len(matches)} tests:\n  {names}{more}")
    by_end = {test.name.rpartition(" / ")[2]: test.address for test in tests}
    close = nearest(address, [test.address for test in tests])
    close = close or by_end.get(nearest(address.rpartition(" / ")[2], by_end) or "")
    hint = f"did you mean '{close}'?" if close else "'wolfbane list' shows them all"
    raise InputError(Problem(f"no test has the address '{address}'", hint=hint))
