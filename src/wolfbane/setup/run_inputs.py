"""The inputs of a run before it starts."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING

import msgspec

from wolfbane.environments import Environment
from wolfbane.events.run_events import SuiteState
from wolfbane.inventory import Inventory
from wolfbane.results.newest import Known
from wolfbane.results.quarantine import Quarantine
from wolfbane.selection import Choice
from wolfbane.setup.run_request import RunRequest
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:
    from wolfbane.workers.prewarm import HeadStart


class RunInputs(msgspec.Struct, frozen=True):
    """The selected tests, their inventory, the run options, and the environments.

    ``documents`` are the copies that the run uses, by URL, as text. ``warnings`` were found while
    the run was prepared. ``suite_state`` finds the commit of the suites. ``head_start`` is a worker
    that is already running.
    """

    inventory: Inventory
    choice: Choice
    request: RunRequest
    known: Known
    environments: Sequence[Environment]
    documents: Mapping[str, str] = msgspec.field(default_factory=dict)
    warnings: Sequence[str] = ()
    quarantine: Quarantine = msgspec.field(default_factory=lambda: Quarantine([]))
    suite_state: Callable[[], SuiteState] = SuiteState
    head_start: HeadStart | None = None

    @property
    def workspace(self) -> Workspace:
        """The workspace of the inventory."""
        return self.inventory.workspace
