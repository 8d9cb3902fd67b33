"""What a run is made of before it starts."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import msgspec

from wolfbane.environments import Environment
from wolfbane.events import SuiteState
from wolfbane.execution.run_request import RunRequest
from wolfbane.inventory import Inventory
from wolfbane.results.newest import Known
from wolfbane.results.quarantine import Quarantine
from wolfbane.selection import Choice
from wolfbane.workspace.settings import Workspace


class RunInputs(msgspec.Struct, frozen=True):
    """Which tests are chosen from which inventory, how to run them, and in which environments.

    ``documents`` are the copies that the run uses, by URL, in words. ``warnings`` were found while
    the run was made ready. ``suite_state`` asks which commit the suites are from.
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

    @property
    def workspace(self) -> Workspace:
        """The workspace of the inventory."""
        return self.inventory.workspace
