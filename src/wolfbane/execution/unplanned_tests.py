"""Tests with results that were not requested: tests in tests, tests of loops, failed hooks."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from wolfbane.kinds.suite import Suite
from wolfbane.model import Test
from wolfbane.planning.plan import Batch
from wolfbane.workers.protocol import TestMessage, WrongMessage


class UnplannedTests:
    """The unplanned tests of a batch; ``met`` are those that the worker described, by address.

    ``suite_path`` has the results that belong to none of several files, or is empty.
    """

    def __init__(self, suite: Suite, batch: Batch, suite_path: str) -> None:
        self._suite, self._batch = suite, batch
        self._paths = dict.fromkeys(test.path for test in batch.tests)
        if suite_path:
            self._paths[suite_path] = None
        self.met: dict[str, Test] = {}

    def meet(self, message: TestMessage, planned: Test | None, more_paths: Iterable[str]) -> Test:
        """Know a test that appeared while others ran."""
        test = self.test(message.address, more_paths)
        chosen = {other.name: other for other in self._batch.tests}
        outer = next((chosen[name] for name in test.ancestors if name in chosen), test)
        base = planned or test
        line, group = message.line or 0, message.group or base.group
        test = replace(base, line=line, tags=outer.tags, exact=True, group=group)
        self.met[message.address] = test
        return test

    def test(self, address: str, more_paths: Iterable[str]) -> Test:
        """The test of an unrequested result. Raises WrongMessage for a file of others."""
        if address in self.met:
            return self.met[address]
        for path in (*self._paths, *more_paths):
            if address == path or address.startswith(f"{path}#"):
                return self.made(address[len(path) + 1 :], path)
        raise WrongMessage(f"the worker reported on {address}, which was not requested")

    def made(self, name: str, path: str) -> Test:
        """A test of the batch that was not found before."""
        suite, batch = self._suite, self._batch
        return Test(
            suite=suite.name,
            kind=suite.kind,
            path=path,
            name=name,
            exact=True,
            browser=batch.browser,
            target=batch.target,
        )
