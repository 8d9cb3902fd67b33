"""Starts the first worker of a run while Wolfbane itself is still loading.

The start of an interpreter takes a third of a small run, and so does the import of the code that
runs, supervises and prints tests. Both happen at the same time here. This module therefore imports
little.
"""

from __future__ import annotations

from collections.abc import Sequence
from types import TracebackType

from wolfbane.environments import Environment
from wolfbane.errors import WolfbaneError
from wolfbane.kinds.contract import MissingRuntime
from wolfbane.kinds.suite import Suite
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workers.worker_command import StartedWorker, WorkerStarts, address_of, listen
from wolfbane.workspace.settings import Workspace

_MEMBER = "0.1"
"""Slots count from one, so no other worker of the run has this name."""


class HeadStart:
    """The process group of a future run, with one worker that connects to ``listening``.

    The run takes over both, and ends them. If the run does not start, they end here.
    """

    def __init__(
        self,
        workspace: Workspace,
        environments: Sequence[Environment],
        suite: Suite,
        *,
        no_build: bool,
    ) -> None:
        self.group = ProcessGroup()
        self.starts = WorkerStarts(workspace, environments, self.group, no_build=no_build)
        self.worker: StartedWorker | None = None
        self._suite, self._taken = suite, False

    def __enter__(self) -> HeadStart:
        self.group.__enter__()
        self.listening = listen()
        try:
            start = self.starts.start(self._suite, self.starts.first.label, _MEMBER, {})
            self.worker = self.starts.begin(start, address_of(self.listening))
        except (MissingRuntime, OSError, ValueError, WolfbaneError):
            pass  # the run will meet the same, and say so
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if not self._taken:
            self.listening.close()
            self.group.__exit__(kind, error, trace)

    def take(self) -> None:
        """Leave the end of the group to the caller."""
        self._taken = True
