"""The state of a run: what its session, its workload and its executor share."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from wolfbane.environments import mask_of
from wolfbane.events.run_events import Event, EventListener, Quarantined, TestFinished
from wolfbane.execution.findings import Findings
from wolfbane.execution.masked import masked
from wolfbane.execution.run_warnings import of_damage, unexpected_result_warnings
from wolfbane.execution.verdict import Tally
from wolfbane.model import Discrepancy, Result
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.run_inputs import RunInputs


class RunState:
    """Informs the listeners of a run, and counts its outcomes.

    ``warnings`` are those of the run's end. ``context`` is set when the preparation starts.
    """

    def __init__(self, inputs: RunInputs, run: str) -> None:
        self.inputs, self.run = inputs, run
        self.request = inputs.request
        self.workspace, self.inventory = inputs.workspace, inputs.inventory
        self.mask = mask_of(inputs.environments)
        self.tally = Tally()
        self.findings = Findings()
        self.warnings: list[str] = []
        self.warned = False
        """Whether the start of the run had warnings."""
        self.quarantined: Mapping[str, Quarantined] = {}
        self.interrupted = False
        self.context: RunContext | None = None
        self.listeners: list[EventListener] = []
        self.unplanned: list[Result] = []
        """Results of tests that were unknown or not selected."""

    def tell(self, event: Event) -> None:
        """Send an event to all listeners, with masked secrets."""
        shown = masked(event, self.mask)
        for listener in self.listeners:
            listener(shown)

    def finished(self, result: Result, extra: bool = False) -> None:
        """The last result of a test, or an unplanned one (``extra``)."""
        self.tally.add(result, quarantined=result.address in self.quarantined)
        if result.account in (Discrepancy.ADDED, Discrepancy.UNASKED):
            self.unplanned.append(result)
        self.tell(TestFinished(result, extra))
        limit = self.request.stop_after
        if limit and self.tally.bad >= limit and self.context:
            self.context.pool.stop()

    def closing_warnings(self) -> Iterator[str]:
        """All warnings that only the end of the run shows."""
        yield from self.warnings
        yield from unexpected_result_warnings(self.workspace, self.unplanned)
        if not self.request.live:
            yield from of_damage(self.findings.damage)
