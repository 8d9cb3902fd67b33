"""Plans a run from its prepared tests."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import TYPE_CHECKING

from wolfbane.errors import NothingChosen
from wolfbane.events.run_events import ShareFacts
from wolfbane.execution.run_start import only_marks
from wolfbane.kinds.protocols import in_one_process, launcher_of
from wolfbane.model import Outcome
from wolfbane.planning.plan import IN_ORDER, Plan, make_plan
from wolfbane.setup.preparation import Prepared
from wolfbane.setup.run_inputs import RunInputs

if TYPE_CHECKING:
    from wolfbane.execution.sharing import Weigh


class Planner:
    """Orders the prepared tests, and takes the share of this job.

    After :meth:`plan`, ``share`` describes that share, and ``focused`` lists the places of tests
    that are marked as the only ones to run. ``weigh`` gives other weights than file sizes for
    dividing tests into shares.
    """

    def __init__(self, inputs: RunInputs, jobs: int) -> None:
        self._inputs, self._jobs = inputs, jobs
        self.weigh: Weigh | None = None
        self.share: ShareFacts | None = None
        self.focused: list[str] = []

    def plan(self, prepared: Prepared) -> Plan:
        """The plan for the prepared tests. Raises NothingChosen if the share has none."""
        request, inventory = self._inputs.request, self._inputs.inventory
        if request.share is not None:
            from wolfbane.execution.sharing import by_file_size, take_share

            weigh = self.weigh or partial(by_file_size, self._inputs.workspace.root)
            weights = weigh(prepared.chosen)
            self.share = take_share(request.share, prepared, inventory, weights=weights)
        self.focused = only_marks(prepared.chosen, inventory.files)
        return make_plan(
            prepared.chosen,
            inventory.files,
            prepared.left_out,
            times=self._inputs.known.times,
            jobs=self._jobs,
            seed=request.seed,
            first=self._first(),
            together=self._together(),
        )

    def nothing_chosen(self) -> NothingChosen:
        """The error for a run without tests, with the reason."""
        from wolfbane.inventory.empty import nothing_chosen

        inputs = self._inputs
        return nothing_chosen(inputs.inventory, inputs.choice, inputs.known.status, to_run=True)

    def _together(self) -> Mapping[str, str]:
        """The suites whose tests stay together, each with the scope of a start or a process."""
        workspace = self._inputs.workspace
        together = {}
        for suite in workspace.suites:
            launcher = launcher_of(suite)
            if launcher and (scope := launcher.started_together(workspace.root, suite)):
                together[suite.name] = scope
        return {**together, **dict.fromkeys(in_one_process(workspace.suites), IN_ORDER)}

    def _first(self) -> frozenset[str]:
        """The previously failed tests, if they must run first."""
        if self._inputs.request.order != "failed":
            return frozenset()
        bad = {str(outcome) for outcome in Outcome if outcome.is_bad}
        status = self._inputs.known.status
        return frozenset(address for address, outcome in status.items() if outcome in bad)
