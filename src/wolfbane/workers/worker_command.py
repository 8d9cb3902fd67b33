"""Prepares the start of workers: commands, variables and tokens."""

from __future__ import annotations

import os
import socket
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from wolfbane.environments.environment import Environment
from wolfbane.kinds.contract import WorkerCommand
from wolfbane.kinds.programs import check_required
from wolfbane.kinds.protocols import filled
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:
    from wolfbane.workers.terminal import LiveTerminal


class WorkerStart(msgspec.Struct, frozen=True):
    """The start parameters of a worker's process. ``capture`` receives its output.

    ``member`` is its name in its process group; ``root`` is that of the workspace. With a
    ``terminal``, it uses the terminal for input and output.
    """

    command: WorkerCommand
    variables: Mapping[str, str]
    capture: Path
    root: Path
    member: str
    terminal: LiveTerminal | None = None


class StartedWorker(msgspec.Struct, frozen=True):
    """A worker's process. It says hello with the ``token``."""

    start: WorkerStart
    process: subprocess.Popen[bytes]
    token: str


class WorkerStarts:
    """Computes how to start workers. ``environments`` are by the label that tests have."""

    def __init__(
        self,
        workspace: Workspace,
        environments: Sequence[Environment],
        group: ProcessGroup,
        *,
        no_build: bool,
    ) -> None:
        self.environments = {environment.label: environment for environment in environments}
        self._workspace, self._group, self._no_build = workspace, group, no_build
        self._values = ValuesFiles(group.scratch, environments)

    @property
    def first(self) -> Environment:
        """The environment for builds."""
        return next(iter(self.environments.values()))

    def variables(self, suite: Suite, target: str = "") -> dict[str, str]:
        """The environment variables of a suite's processes; without a target, the first one's."""
        environment = self.environments.get(target) or self.first
        variables = environment.variables(suite)
        for form, variable in suite.values_file.items():
            variables[variable] = str(self._values.path(environment, form))
        return variables

    def start(
        self,
        suite: Suite,
        target: str,
        member: str,
        more: Mapping[str, str],
        terminal: LiveTerminal | None = None,
    ) -> WorkerStart:
        """The start of a worker, with ``more`` variables. Raises MissingRuntime."""
        variables = {**self.variables(suite, target), **more}
        check_required(self._workspace.root, suite, variables.get("PATH"))
        capture = self._group.scratch / f"worker-{member}.out"
        root = self._workspace.root
        return WorkerStart(
            command=self._command(suite, target),
            variables=variables,
            capture=capture,
            root=root,
            member=member,
            terminal=terminal,
        )

    def begin(self, start: WorkerStart, address: str) -> StartedWorker:
        """Start a worker that connects to an address. Raises OSError."""
        token = os.urandom(24).hex()
        call = {"WOLFBANE_CHANNEL": address, "WOLFBANE_TOKEN": token}
        process = self._group.start(
            start.command.arguments,
            folder=start.command.folder,
            environment={**start.variables, **call},
            output=start.capture,
            member=start.member,
            terminal=start.terminal,
        )
        return StartedWorker(start, process, token)

    def _command(self, suite: Suite, target: str) -> WorkerCommand:
        """The start of a worker, with every parameter if its kind needs them."""
        kind = find_kind(suite.kind)
        more: dict[str, object] = {"prompt": True} if suite.browsers else {}
        more.update(no_build=self._no_build, results=str(self._workspace.caches))
        if kind.reads_values:
            environment = self.environments.get(target) or self.first
            suite = filled(suite, environment.filled)
            more["values"] = {name: value.value for name, value in environment.values.items()}
        command = kind.worker(self._workspace.root, suite)
        return replace(command, options={**command.options, **more})


def listen() -> socket.socket:
    """A socket for workers, on a free loopback port."""
    return socket.create_server(("127.0.0.1", 0))


def address_of(listening: socket.socket) -> str:
    """The address that workers connect to."""
    host, port = listening.getsockname()[:2]
    return f"{host}:{port}"


class ValuesFiles:
    """Writes the files when they are needed for the first time.

    They are removed with their folder at the end of the run.
    """

    def __init__(self, folder: Path, environments: Sequence[Environment]) -> None:
        self._folder, self._environments = folder, list(environments)

    def path(self, environment: Environment, form: str) -> Path:
        """The file with an environment's values, which only this user can read."""
        number = self._environments.index(environment)
        path = self._folder / f"values-{number}.{form}"
        if not path.exists():
            path.touch(mode=0o600)
            path.write_text(environment.as_file(form), encoding="utf-8")
        return path
