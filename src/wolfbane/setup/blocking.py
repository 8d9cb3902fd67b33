"""Results for tests that cannot start: their build, service, environment or runtime is missing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from wolfbane.inventory import Inventory
from wolfbane.kinds.suite import Suite
from wolfbane.model import Outcome, Result, Test, TestFile
from wolfbane.results.result_builder import ResultBuilder
from wolfbane.selection import Choice, choose, may_match
from wolfbane.workers.message_data import ending


class Blocked(msgspec.Struct):
    """Results of blocked tests. ``possible`` are files whose known tests are not selected, but that
    may contain more: only loading them would show that.
    """

    certain: list[Result] = msgspec.field(default_factory=list)
    possible: list[Result] = msgspec.field(default_factory=list)


def blocked_tests(
    builder: ResultBuilder,
    inventory: Inventory,
    choice: Choice,
    status: Mapping[str, str],
    target: str,
    reasons: Sequence[tuple[TestFile, str, str]],
) -> Blocked:
    """A result for each selected test of the blocked files; for the file, if none is known yet.

    ``reasons`` has a message and an output for each file.
    """
    blocked = Blocked()
    if not reasons:
        return blocked
    by_path: dict[str, list[Test]] = {}
    for test in choose(choice, inventory.tests_at(target), status).chosen:
        by_path.setdefault(test.path, []).append(test)
    for file, message, output in reasons:
        end = ending(Outcome.BLOCKED, message)
        if tests := by_path.get(file.path):
            blocked.certain.append(builder.make(tests[0], end, output))
            blocked.certain += (builder.make(test, end, "") for test in tests[1:])
        elif may_match(choice.expression, file) is True:
            blocked.certain.append(builder.make(_whole(file, target), end, output))
        else:
            blocked.possible.append(builder.make(_whole(file, target), end, output))
    return blocked


def suite_as_file(suite: Suite) -> TestFile:
    """A file in place of those of a suite that has none yet."""
    return TestFile(suite.paths[0], suite.name, suite.kind)


def _whole(file: TestFile, target: str) -> Test:
    return Test(
        suite=file.suite, kind=file.kind, path=file.path, name="", exact=True, target=target
    )
