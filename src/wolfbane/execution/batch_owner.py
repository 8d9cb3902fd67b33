"""The interface of a batch's owner, as the running batch uses it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Protocol

from wolfbane.events.run_events import Event
from wolfbane.execution.findings import Findings
from wolfbane.execution.launcher_names import LauncherNames
from wolfbane.model import Result, Test, TestFile
from wolfbane.planning.plan import Batch
from wolfbane.setup.run_context import RunContext


class BatchOwner(Protocol):
    """Hands out batches and receives the results of their tests."""

    context: RunContext
    timeout: float | None
    files: Mapping[str, TestFile]
    findings: Findings
    names: LauncherNames
    queue: list[Batch]
    unrun: int

    def tell(self, event: Event) -> None:
        """An event of the run."""

    def finished(self, result: Result, extra: bool) -> None:
        """An unplanned result (``extra``), or the last result of a test."""

    def ended(self, test: Test, result: Result, batch: Batch) -> None:
        """An attempt of a planned test is over."""

    def over(self, batch: Batch) -> None:
        """A batch has ended."""

    def give_up(self, tests: Iterable[Test]) -> None:
        """Tests that should have run again but do not."""

    def handed_in(self, batch: Batch) -> dict[str, Any]:
        """The values that tests of a file passed to tests that need them, by name."""
