"""Builds suites before they run, if the inputs of a build have changed, and prepares them."""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

import msgspec

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.basis.files import read_regular, write_whole
from wolfbane.environments import Environment
from wolfbane.events.run_events import Building, Event
from wolfbane.inventory.files import suite_files
from wolfbane.kinds.contract import MissingRuntime
from wolfbane.kinds.programs import check_required
from wolfbane.kinds.protocols import launcher_of
from wolfbane.kinds.suite import Suite
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.run_request import ALWAYS, NEVER
from wolfbane.workspace.settings import Workspace

NAME = "builds.json"
KEPT = 1 << 16


class Built(msgspec.Struct, frozen=True):
    """The last build of a suite: a hash of what it depends on, and the files that it left."""

    mark: str
    outputs: Sequence[str]


class BuildFailure(msgspec.Struct, frozen=True):
    """The reason why a suite is blocked: the failed command, its exit code, and its output."""

    message: str
    output: str


class Builder:
    """Runs the ``build`` commands of suites, and the commands that prepare each run.

    ``when`` is ALWAYS, CHANGED or NEVER, and is for builds.
    """

    def __init__(self, context: RunContext, when: str, tell: Callable[[Event], None]) -> None:
        self._context, self._when, self._tell = context, when, tell
        self._workspace = context.workspace
        self._path = self._workspace.caches / NAME
        self._built = _read(self._path)
        self.failures: dict[str, BuildFailure] = {}
        self.stale: list[str] = []
        self.ran = False

    async def build(self, suites: Iterable[Suite]) -> None:
        """Build outdated suites; failures, and missing programs, are in ``failures``, by suite."""
        for suite in suites:
            try:
                path = self._context.launcher.variables(suite).get("PATH")
                check_required(self._workspace.root, suite, path)
            except MissingRuntime as error:
                self.failures[suite.name] = BuildFailure(str(error), "")
                continue
            if not suite.build or self._context.pool.stopping:
                continue
            mark = build_mark(self._workspace, suite, self._context.launcher.first)
            fresh = is_fresh(self._workspace, suite, self._built.get(suite.name), mark=mark)
            if self._when == NEVER:
                if not fresh:
                    self.stale.append(suite.name)
            elif self._when == ALWAYS or not fresh:
                await self._build(suite, mark)

    async def prepare(self, suites: Iterable[Suite]) -> None:
        """Run the preparation of each suite's kind, unless its build failed."""
        for suite in suites:
            if suite.name not in self.failures:
                launcher, root = launcher_of(suite), self._workspace.root
                if launcher:
                    commands = launcher.commands_before(root, suite)
                else:
                    commands = ()
                await self._all(suite, commands, "set-up")

    async def _build(self, suite: Suite, mark: str) -> None:
        self._built.pop(suite.name, None)
        if await self._all(suite, suite.build, "build"):
            self._built[suite.name] = Built(mark, _outputs(self._workspace, suite))
        write_whole(self._path, msgspec.json.encode(self._built).decode())

    async def _all(self, suite: Suite, commands: Sequence[str], what: str) -> bool:
        """Run commands up to the first failure; returns whether all succeeded."""
        for number, command in enumerate(commands, 1):
            if self._context.pool.stopping:
                return False
            self.ran = True
            self._tell(Building(suite.name, command))
            member = f"{what}-{suite.name}.{number}"
            code, output = await run_build_command(self._context, suite, command, member=member)
            if code:
                message = f"the {what} of the suite failed: {command} ({code})"
                self.failures[suite.name] = BuildFailure(message, output[-KEPT:])
                return False
        return True


def build_mark(workspace: Workspace, suite: Suite, environment: Environment) -> str:
    """A hash of a suite's build: its commands, variables, and the content of every input."""
    digest = hashlib.blake2b(environment.fingerprint(suite).encode())
    for path in suite_files(workspace.root, suite.inputs, ("*",), exclude=()):
        content = b""
        with contextlib.suppress(OSError):  # a pipe, or a file that was removed meanwhile
            content = read_regular(workspace.root / path)
        digest.update(path.encode() + b"\0" + content + b"\0")
    return digest.hexdigest()[:32]


def is_fresh(workspace: Workspace, suite: Suite, built: Built | None, mark: str) -> bool:
    """Whether the inputs are those of the last build, and all its outputs still exist."""
    if built is None or not suite.inputs or built.mark != mark:
        return False
    return all((workspace.root / path).exists() for path in built.outputs)


def _outputs(workspace: Workspace, suite: Suite) -> Sequence[str]:
    """The files that the build should have left, also those that git ignores."""
    root = workspace.root
    outputs = {path: None for path in suite.outputs if "*" not in path and "?" not in path}
    for glob in suite.outputs:
        outputs |= {path.relative_to(root).as_posix(): None for path in root.glob(glob)}
    return list(outputs)


def stale_builds(workspace: Workspace, environment: Environment) -> list[str]:
    """Suites whose inputs have changed since their build, or that were never built."""
    built = _read(workspace.caches / NAME)
    return [
        suite.name
        for suite in workspace.suites
        if suite.inputs
        and not is_fresh(
            workspace, suite, built.get(suite.name), mark=build_mark(workspace, suite, environment)
        )
    ]


def _read(path: Path) -> dict[str, Built]:
    with contextlib.suppress(OSError, msgspec.MsgspecError):  # of an older version, too
        return msgspec.json.decode(read_regular(path), type=dict[str, Built])
    return {}


_LOOK_EVERY = 0.025
"""Seconds between two checks whether the command has ended or the run was stopped."""


async def run_build_command(
    context: RunContext, suite: Suite, command: str, member: str
) -> tuple[str, str]:
    """Run a shell command for a suite; returns the failure (or an empty text) and the output."""
    group, pool = context.launcher.group, context.pool
    member = member.replace("/", "-")
    printed = group.scratch / f"{member}.out"
    process = group.start(
        ["/bin/sh", "-c", command],
        context.workspace.root / suite.folder,
        context.launcher.variables(suite),
        printed,
        member,
    )
    while process.poll() is None and not pool.stopping:
        await asyncio.sleep(_LOOK_EVERY)
    stopped = process.poll() is None
    group.end(process, member)
    output = printed.read_text(encoding="utf-8", errors="replace")
    printed.unlink()
    if stopped:
        return "stopped", output
    return how_it_ended(process.returncode) if process.returncode else "", output
