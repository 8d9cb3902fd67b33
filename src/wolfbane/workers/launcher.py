"""Starts the workers of a run: their commands, variables, endpoints and captured output."""

from __future__ import annotations

from collections.abc import Sequence
from types import TracebackType
from typing import TYPE_CHECKING

from msgspec.structs import replace

from wolfbane.browsers.run_browsers import RunBrowsers
from wolfbane.environments import Environment
from wolfbane.environments.values_files import ValuesFiles
from wolfbane.kinds.contract import MissingRuntime, WorkerCommand
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.workers.channel import ChannelServer
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workers.worker import Worker, WorkerStart
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:
    from wolfbane.workers.terminal import LiveTerminal


class Unstartable(Exception):
    """A suite's worker cannot be started; the text says why."""


class WorkerLauncher:
    """Starts workers in one process group. They end with it.

    ``environments`` are by the label that tests carry as their target.
    """

    def __init__(
        self, workspace: Workspace, environments: Sequence[Environment], browsers: RunBrowsers,
        *, no_build: bool = False,
    ) -> None:  # fmt: skip
        self.environments = {environment.label: environment for environment in environments}
        self.browsers = browsers
        self.terminal: LiveTerminal | None = None
        """Where workers print and read, if somebody looks on."""
        self.group = ProcessGroup()
        self._workspace, self._no_build = workspace, no_build
        self._values = ValuesFiles(self.group.scratch, environments)
        self._server = ChannelServer()
        self._unstartable: dict[tuple[str, str], str] = {}

    async def __aenter__(self) -> WorkerLauncher:
        self.group.__enter__()
        await self._server.open()
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
        """The environment that builds are made in."""
        return next(iter(self.environments.values()))

    def variables(self, suite: Suite, target: str = "") -> dict[str, str]:
        """The environment variables of a suite's processes; without a target, the first one's."""
        environment = self.environments.get(target) or self.first
        found = environment.variables(suite)
        for form, variable in suite.values_file.items():
            found[variable] = str(self._values.path(environment, form))
        return found

    async def launch(self, suite: Suite, target: str, browser: str, member: str) -> Worker:
        """A new worker's process. Raises Unstartable, the same way each time."""
        key = (suite.name, target)
        if key in self._unstartable:
            raise Unstartable(self._unstartable[key])
        capture = self.group.scratch / f"worker-{member}.out"
        variables = self.variables(suite, target)
        endpoint, place = await self.browsers.endpoint(self.group, suite, browser)
        try:
            start = WorkerStart(
                self._command(suite, target), {**variables, **place}, capture,
                self._workspace.root, member, self.terminal,
            )  # fmt: skip
            return Worker(
                self._server, self.group, start, endpoint,
                lambda: self.browsers.dismiss(endpoint, suite),
            )  # fmt: skip
        except (MissingRuntime, OSError) as error:
            raise self.give_up(suite, target, str(error)) from None

    def give_up(self, suite: Suite, target: str, why: str) -> Unstartable:
        """Start no more workers of a suite; returns the error to raise."""
        self._unstartable[suite.name, target] = why
        return Unstartable(why)

    def _command(self, suite: Suite, target: str) -> WorkerCommand:
        """How to start a worker, with every parameter if its kind wants them."""
        kind = find_kind(suite.kind)
        more: dict[str, object] = {"prompt": True} if suite.browsers else {}
        more.update(no_build=self._no_build, results=str(self._workspace.caches))
        if kind.reads_values:
            environment = self.environments.get(target) or self.first
            suite = kind.filled(suite, environment.filled)
            more["values"] = {name: value.value for name, value in environment.values.items()}
        command = kind.worker(self._workspace.root, suite)
        return replace(command, options={**command.options, **more})
