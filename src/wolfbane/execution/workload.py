"""The two axes of a run: its workload (tests, a load test) and its executor (where it runs)."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractAsyncContextManager
from typing import NamedTuple, Protocol

from wolfbane.errors import BlockedError
from wolfbane.events.load_events import LoadMachine
from wolfbane.execution.run_state import RunState
from wolfbane.kinds.suite import Suite
from wolfbane.planning.plan import Plan
from wolfbane.setup.preparation import Preparation, Prepared
from wolfbane.workers.channel import Request
from wolfbane.workers.message_data import Message
from wolfbane.workers.protocol import WorkerMessage
from wolfbane.workers.worker import RequestEnd


class Askable(Protocol):
    """A worker, on this machine or on another one."""

    async def ask(
        self,
        request: Request,
        until: type[Message],
        listen: Callable[[WorkerMessage], None],
        limit: float,
    ) -> RequestEnd:
        """Send a request and wait for a message of the type ``until``; see :meth:`Worker.ask`."""
        ...

    def tell(self, message: Request) -> None:
        """Send a message in addition to the request in progress."""
        ...


class LoadProcess(NamedTuple):
    """A process that runs a part of a load test: a worker, here or on another machine.

    The clock of its machine is ``ahead`` of the local clock, in seconds.
    """

    worker: Askable
    machine: LoadMachine | None = None
    ahead: float = 0.0


class NoWorkersError(BlockedError):
    """No machine can run the workload, so all of its tests are blocked."""


class Executor(Protocol):
    """Where a run takes place."""

    address: str
    """The cluster; empty for this machine."""
    jobs: int
    """The number of workers on this machine."""
    start_delay: float
    """Seconds before a load test starts in all processes at once; orders are sent in this time."""
    trouble: str
    """The reason why the run could not be completed; empty if there is none."""

    def connected(self) -> AbstractAsyncContextManager[object]:
        """The connection for a run. Raises BlockedError if there is none."""
        ...

    async def prepare(self, preparation: Preparation, *, start: bool = True) -> Prepared:
        """Select the tests. Without ``start``, no service starts."""
        ...

    async def run_tests(self, state: RunState, plan: Plan) -> int:
        """Run the tests of a plan; returns the number of tests that did not start."""
        ...

    def load_processes(
        self, state: RunState, plan: Plan, suite: Suite, users: int
    ) -> AbstractAsyncContextManager[list[LoadProcess]]:
        """Processes for a load test of a suite: at most one for each user.

        Raises InputError, or NoWorkersError if no machine can be used.
        """
        ...

    async def load_machines(self, users: int) -> Sequence[LoadMachine]:
        """The machines that a load test with so many users would use; none means this machine."""
        ...

    def stop(self) -> None:
        """End everything that has not reported yet: the run was interrupted."""
        ...


class Workload(Protocol):
    """The work of a run with its plan."""

    has_order: bool
    """Whether the order of files matters."""

    async def carry_out(self, state: RunState, executor: Executor, plan: Plan) -> int:
        """Do the work; returns the number of tests that did not start."""
        ...

    def stop(self) -> bool:
        """The run was interrupted: end soon. False if its workers have to be ended."""
        ...

    def verdict(self, state: RunState, verdict: tuple[int, str]) -> tuple[int, str]:
        """The exit code of the run and the reason for it, from those that its outcomes give."""
        ...
