"""``wolfbane explain``."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.revision_options import revision_options
from wolfbane.cli.options.selection_options import selection_options
from wolfbane.errors import InputError, Problem, nearest
from wolfbane.kinds.protocols import HasSteps
from wolfbane.kinds.registry import find_kind
from wolfbane.selection import Matcher, Term

if TYPE_CHECKING:
    from rich.text import Text

    from wolfbane.app.selection import Selected
    from wolfbane.inventory import Inventory
    from wolfbane.model import Test


@click.command("explain", cls=Command)
@click.argument("address", shell_complete=completion_sources.paths)
@selection_options
@revision_options
def command(select: Callable[[], Selected], address: str) -> None:
    """Show what is known about the test at ADDRESS, and why a selection includes it or not.

    ADDRESS is PATH#NAME, as printed by 'wolfbane list', or FILE:LINE. The last part of an address
    is enough if only one test matches it.

    \b
    wolfbane explain 'tests/fees/test_fees.py#LateFeeTest / test_a_tenth_a_day'
    wolfbane explain tests/fees/test_fees.py:12
    wolfbane explain test_a_tenth_a_day --tag smoke
    """
    from wolfbane.reports.console.explained import explained
    from wolfbane.reports.console.layout import facts
    from wolfbane.reports.console.style import make_console
    from wolfbane.results.quarantine import read_quarantine

    selected = select()
    variants = _find(selected.inventory, address)
    entry = read_quarantine(selected.inventory.workspace).entry(variants[0])
    console = make_console()
    rows = explained(variants, selected.choice, selected.newest, quarantine=entry)
    kind = find_kind(variants[0].kind)
    if isinstance(kind, HasSteps):
        rows += _steps(selected.inventory, variants[0], kind)
    console.print(facts(rows, console.reading_width), soft_wrap=True)


def _steps(inventory: Inventory, test: Test, kind: HasSteps) -> list[tuple[str, Text | str]]:
    """The function of each step of a test, as reported by the suite's worker."""
    from wolfbane.app.step_listing import list_steps
    from wolfbane.environments import resolve
    from wolfbane.reports.console.explained import step_rows

    workspace = inventory.workspace
    try:
        source = (workspace.root / test.path).read_text(encoding="utf-8-sig")
        steps = kind.steps(source, test.name)
        environment = resolve(workspace)
    except (OSError, ValueError, InputError) as error:
        return [("steps", f"the steps cannot be read: {error}")]
    if not steps:
        return []
    suites = [workspace.suite(test.suite)]
    listing = list_steps(inventory, suites, environment, files=[test.path])
    return step_rows(steps, listing)


def _at_line(inventory: Inventory, address: str) -> list[Test]:
    from wolfbane.inventory.paths import paths_expression

    if not re.fullmatch(r"[^#]+:\d+", address):
        return []
    matches = Matcher(paths_expression(inventory, [address], Path.cwd()))
    return [test for test in inventory.tests if matches(test)]


def _find(inventory: Inventory, address: str) -> list[Test]:
    """The matching test, once for each browser that the address does not exclude."""
    tests = inventory.tests
    at = Matcher(Term("address", address, "quoted"))
    for matches in (
        _at_line(inventory, address),
        [test for test in tests if at(test)],
        [
            test
            for test in tests
            if test.address.endswith(address) or test.worker_address.endswith(address)
        ],
        [test for test in tests if test.address == address.rpartition(" @")[0]],
        [test for test in tests if test.worker_address == address.rpartition(" @")[0]],
    ):
        places = list(dict.fromkeys(test.worker_address for test in matches))
        if len(places) == 1:
            return matches
        if places:
            names = "\n  ".join(places[:10])
            more = ""
            if len(places) > 10:
                more = f"\n  and {len(places) - 10} more"
            raise InputError(f"'{address}' matches {len(places)} tests:\n  {names}{more}")
    by_end = {test.name.rpartition(" / ")[2]: test.address for test in tests}
    close = nearest(address, [test.address for test in tests])
    close = close or by_end.get(nearest(address.rpartition(" / ")[2], by_end) or "")
    hint = "'wolfbane list' lists all addresses"
    if close:
        hint = f"did you mean '{close}'?"
    raise InputError(Problem(f"no test matches the address '{address}'", hint=hint))
