"""The warnings of a run. They do not stop the run."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from wolfbane.execution.findings import ProcessDamage
from wolfbane.kinds.protocols import launcher_of
from wolfbane.kinds.suite import Suite
from wolfbane.model import Discrepancy, Result, Test, TestFile
from wolfbane.results.quarantine import Quarantine
from wolfbane.selection import Choice, may_match, term_counts
from wolfbane.setup.preparation import Prepared
from wolfbane.workspace.settings import Workspace

SHOWN = 3
MOST_DAMAGE = 10
_DID = {
    Discrepancy.ADDED: "reported {} not found before the run",
    Discrepancy.UNASKED: "ran {} not selected",
}


def of_what_is_prepared(
    prepared: Prepared, shared: Mapping[str, Sequence[str]], suites: Iterable[Suite]
) -> Iterator[str]:
    """Outdated builds, listed files without tests, and files that two suites list."""
    named = {path.removeprefix("./"): suite.name for suite in suites for path in suite.paths}
    yield from (f"suite {name} uses an outdated build (--no-build)" for name in prepared.stale)
    for suite, results in _by_suite(prepared.possible).items():
        yield (
            f"suite {suite} is blocked ({results[0].message}); {len(results)} of its files may "
            f"contain more selected tests"
        )
    for path in prepared.empty:
        if path in named:
            yield f"{path} contains no tests, although suite {named[path]} lists it"
    for path, names in shared.items():
        yield f"{path} belongs to suites {', '.join(names)}; it runs only in {names[0]}"


def _by_suite(results: Iterable[Result]) -> dict[str, list[Result]]:
    by_suite: dict[str, list[Result]] = {}
    for result in results:
        by_suite.setdefault(result.suite, []).append(result)
    return by_suite


def of_the_files(files: Iterable[TestFile], choice: Choice) -> Iterator[str]:
    """Unusual things about files that may contain a selected test."""
    for file in files:
        if file.warnings and may_match(choice.expression, file) is not False:
            yield from (f"{file.path}:{warning}" for warning in file.warnings)


def of_the_choice(
    choice: Choice, tests: Sequence[Test], status: Mapping[str, str]
) -> Iterator[str]:
    """Terms that match nothing inside a larger expression."""
    for expression in (choice.expression, *choice.drops):
        for count in term_counts(expression, tests, status):
            if not count.matches:
                yield str(count)


def of_the_quarantine(quarantine: Quarantine, tests: Sequence[Test]) -> Iterator[str]:
    """Entries that match no test."""
    for entry in quarantine.empty(tests):
        yield f"{entry.file}:{entry.line}: '{entry.match}' no longer matches any test"


def unexpected_result_warnings(workspace: Workspace, results: Iterable[Result]) -> Iterator[str]:
    """Tests that launchers reported but that were unknown, unless unknown tests are expected, or
    that were not selected.
    """
    by_suite: dict[tuple[str, Discrepancy], list[str]] = {}
    for result in results:
        by_suite.setdefault((result.suite, result.account), []).append(result.address)
    for (name, account), addresses in by_suite.items():
        suite = workspace.suite(name)
        launcher = launcher_of(suite)
        explains = ""
        if launcher:
            explains = launcher.unexpected_result(workspace.root, suite)
        if account is Discrepancy.ADDED and not explains:
            continue
        alone = len(addresses) == 1
        many = "a test that was"
        if not alone:
            many = f"{len(addresses)} tests that were"
        more = ""
        if len(addresses) > SHOWN:
            more = ", ..."
        yield (
            f"{name}: the launcher {_DID[account].format(many)}: "
            f"{', '.join(addresses[:SHOWN])}{more} ({explains})"
        )


def of_damage(damage: Sequence[ProcessDamage]) -> Iterator[str]:
    """Tests and files that changed their process in a way that would affect later tests."""
    for each in damage[:MOST_DAMAGE]:
        shown = [*each.left[:SHOWN], *(["..."] if len(each.left) > SHOWN else [])]
        effect = "the change was undone before the next test"
        if each.stays:
            effect = "the following tests of its file ran with it"
        yield f"{each.address} changed its process ({'; '.join(shown)}); {effect}"
    if len(damage) > MOST_DAMAGE:
        yield f"{len(damage) - MOST_DAMAGE} more tests changed their process"
