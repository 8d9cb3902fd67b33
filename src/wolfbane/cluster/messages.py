"""The messages between the main process and a machine. Both run the same version of Wolfbane.

Each message is sent as bytes that only the other side reads: the engine between them sees neither
names nor values.
"""

from __future__ import annotations

import pickle
from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from wolfbane.cluster.here.packing import Manifest
from wolfbane.environments import Environment
from wolfbane.events.run_events import Event, Exercised
from wolfbane.execution.findings import ProcessDamage
from wolfbane.model import Result, Test, TestFile
from wolfbane.planning.plan import Batch
from wolfbane.setup.run_request import RunRequest
from wolfbane.workers.message_data import Message
from wolfbane.workers.protocol import WorkerMessage
from wolfbane.workers.worker import RequestEnd
from wolfbane.workspace.settings import Workspace


class MachineJob(msgspec.Struct, frozen=True):
    """Everything that a machine needs to know about a run.

    ``folder`` is the folder in which the main process stores evidence. With ``load``, the machine
    runs a part of a load test.
    """

    name: str
    run: str
    workspace: Workspace
    manifest: Manifest
    environments: Sequence[Environment]
    request: RunRequest
    files: Mapping[str, TestFile]
    suites: Sequence[str]
    jobs: int
    folder: str
    load: bool = False


class AbilityQuestion(msgspec.Struct, frozen=True):
    """Report the abilities of the machine for a workspace, and do nothing else."""

    workspace: Workspace
    manifest: Manifest


class MachineAbilities(msgspec.Struct, frozen=True):
    """The runtimes of a machine: one for each suite, or the reason why the suite cannot run.

    The same for browsers.

    ``missing`` and ``no_browser`` are by the name of a suite, or of a browser.
    """

    runtimes: dict[str, str]
    missing: dict[str, str]
    browsers: dict[str, str]
    no_browser: dict[str, str]


class RunBatch(msgspec.Struct, frozen=True):
    """Run a batch in a slot. ``handed`` are the values that earlier tests of its file passed on."""

    slot: int
    number: int
    batch: Batch
    handed: dict[str, Any]


class StartWorkers(msgspec.Struct, frozen=True):
    """Start a worker of a suite in each slot, for a load test in an environment."""

    suite: str
    target: str


class AskWorker(msgspec.Struct, frozen=True):
    """Send a request to the worker of a slot, like :meth:`Worker.ask`."""

    slot: int
    request: dict[str, Any]
    until: type[Message]
    limit: float


class TellWorker(msgspec.Struct, frozen=True):
    """Send the worker of a slot a message in addition to the request in progress."""

    slot: int
    message: dict[str, Any]


class NoMore(msgspec.Struct, frozen=True):
    """There are no more batches for a slot."""

    slot: int


class StopNow(msgspec.Struct, frozen=True):
    """End everything: the run was stopped."""


class MachineReady(msgspec.Struct, frozen=True):
    """Suites are built, and services are ready.

    ``blocked`` is the problem with a suite of a target, ``missing`` lists suites without their
    runtime on this machine, and ``no_browser`` is the reason why a browser cannot be used.
    """

    blocked: dict[tuple[str, str], str]
    missing: dict[str, str]
    no_browser: dict[str, str]

    def why_not(self, target: str, suite: str) -> str:
        """The reason why a suite of a target cannot run, or an empty text."""
        return self.missing.get(suite) or self.blocked.get((target, suite), "")


class WantBatch(msgspec.Struct, frozen=True):
    """A slot is idle, or (not ``idle``) will soon be idle."""

    slot: int
    idle: bool


class Told(msgspec.Struct, frozen=True):
    """An event of the run."""

    event: Event


class AttemptEnded(msgspec.Struct, frozen=True):
    """An attempt of a planned test has ended: the result contains its address."""

    number: int
    result: Result


class Unplanned(msgspec.Struct, frozen=True):
    """The result of an unplanned test."""

    result: Result
    extra: bool


class BatchOver(msgspec.Struct, frozen=True):
    """A batch has ended.

    ``handed`` is the data that its tests passed on; the other fields are findings.
    """

    number: int
    handed: dict[str, Any]
    met: dict[str, dict[str, Test]]
    missed: dict[str, set[str]]
    covered: dict[Exercised, int]
    damage: list[ProcessDamage]


class EvidencePiece(msgspec.Struct, frozen=True):
    """A piece of an evidence file; the pieces of a file arrive in order."""

    path: str
    data: bytes


class WorkersStarted(msgspec.Struct, frozen=True):
    """The workers of a load test have started; ``problem`` is the reason if they did not."""

    problem: str


class WorkerSaid(msgspec.Struct, frozen=True):
    """A message of the worker of a slot."""

    slot: int
    message: WorkerMessage


class WorkerAnswered(msgspec.Struct, frozen=True):
    """The machine's part of the run has ended."""

    slot: int
    end: RequestEnd


class MachineOver(msgspec.Struct, frozen=True):
    """The machine's part of the run is over."""

    warnings: Sequence[str]
    browsers: dict[str, str]


class MachineFailed(msgspec.Struct, frozen=True):
    """The machine cannot continue. The text gives the reason."""

    reason: str


MachineMessage = (
    MachineReady
    | MachineAbilities
    | WantBatch
    | Told
    | AttemptEnded
    | Unplanned
    | BatchOver
    | EvidencePiece
    | WorkersStarted
    | WorkerSaid
    | WorkerAnswered
    | MachineOver
    | MachineFailed
)
CoreMessage = (
    MachineJob
    | AbilityQuestion
    | RunBatch
    | NoMore
    | StartWorkers
    | AskWorker
    | TellWorker
    | StopNow
)


def packed(message: CoreMessage | Sequence[MachineMessage]) -> bytes:
    """A message to a machine, or several from one, as bytes."""
    return pickle.dumps(message, protocol=5)


def unpacked(data: bytes) -> Any:
    """The files that the other side packed."""
    return pickle.loads(data)
