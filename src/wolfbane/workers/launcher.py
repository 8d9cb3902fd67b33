"""Starts the workers of a run, and gives them their endpoints."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from types import TracebackType
from typing import TYPE_CHECKING

from msgspec.structs import replace

from wolfbane.browsers.run_browsers import RunBrowsers
from wolfbane.environments import Environment
from wolfbane.kinds.contract import MissingRuntime
from wolfbane.kinds.suite import Suite
from wolfbane.workers.channel import ChannelServer
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workers.worker import Worker
from wolfbane.workers.worker_command import StartedWorker, WorkerStart, WorkerStarts
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:
    from wolfbane.browsers.worker_endpoints import WorkerEndpoint
    from wolfbane.workers.prewarm import HeadStart
    from wolfbane.workers.terminal import LiveTerminal


class Unstartable(Exception):
    """The worker of a suite cannot be started. The text gives the reason."""


class WorkerLauncher:
    """Starts workers in one process group. They end with it.

    ``environments`` are by the label that tests have as their target. With a ``head_start``, the
    first worker may already be running.
    """

    def __init__(
        self,
        workspace: Workspace,
        environments: Sequence[Environment],
        browsers: RunBrowsers,
        *,
        no_build: bool = False,
        head_start: HeadStart | None = None,
    ) -> None:
        self.browsers = browsers
        self.terminal: LiveTerminal | None = None
        """The streams that workers print to and read from, if a user watches."""
        self.group = head_start.group if head_start else ProcessGroup()
        self.starts = WorkerStarts(workspace, environments, self.group, no_build=no_build)
        self.environments = self.starts.environments
        self._head_start = head_start
        self._ahead: tuple[StartedWorker, Worker] | None = None
        self._server = ChannelServer()
        self._unstartable: dict[tuple[str, str], str] = {}

    async def __aenter__(self) -> WorkerLauncher:
        ahead = self._head_start
        if ahead is None:
            self.group.__enter__()
            await self._server.open()
            return self
        ahead.take()
        if ahead.worker:  # before the server opens: it may call at once, and must be expected
            self._ahead = ahead.worker, Worker(self._server, self.group, ahead.worker)
        await self._server.open(ahead.listening)
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.browsers.close()
        self._server.close()
        self.group.__exit__(kind, error, trace)

    @property
    def first(self) -> Environment:
        """The environment for builds."""
        return self.starts.first

    def variables(self, suite: Suite, target: str = "") -> dict[str, str]:
        """The environment variables of a suite's processes; without a target, the first one's."""
        return self.starts.variables(suite, target)

    async def launch(self, suite: Suite, target: str, browser: str, member: str) -> Worker:
        """The process of a new worker. Raises Unstartable, in the same way each time."""
        key = (suite.name, target)
        if key in self._unstartable:
            raise Unstartable(self._unstartable[key])
        endpoint, folder = await self.browsers.endpoint(self.group, suite, browser)
        try:
            start = self.starts.start(suite, target, member, folder, self.terminal)
            return self._taken_over(start) or self._new(suite, start, endpoint)
        except (MissingRuntime, OSError) as error:
            raise self.give_up(suite, target, str(error)) from None

    def give_up(self, suite: Suite, target: str, why: str) -> Unstartable:
        """Start no more workers of a suite; returns the error to raise."""
        self._unstartable[suite.name, target] = why
        return Unstartable(why)

    def _new(self, suite: Suite, start: WorkerStart, endpoint: WorkerEndpoint | None) -> Worker:
        started = self.starts.begin(start, self._server.address)
        farewell = partial(self.browsers.dismiss, endpoint, suite)
        return Worker(self._server, self.group, started, endpoint=endpoint, farewell=farewell)

    def _taken_over(self, wanted: WorkerStart) -> Worker | None:
        """The worker that was started early, if this one would start in the same way."""
        if self._ahead is None:
            return None
        started, worker = self._ahead
        own = {"capture": wanted.capture, "member": wanted.member}
        if replace(started.start, **own) != wanted:
            return None
        self._ahead = None
        return worker
