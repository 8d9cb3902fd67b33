"""One machine's part of a run: a process next to the engine's worker, with its own pool.

Started with a folder as its argument. It reads messages from standard input and writes them to
standard output, each preceded by its length. When standard input ends, everything that was started
ends.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import re
import struct
import sys
import tempfile
import threading
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any, BinaryIO

from msgspec.structs import replace

from wolfbane.basis.units import size
from wolfbane.browsers.run_browsers import RunBrowsers
from wolfbane.cluster.messages import (
    AbilityQuestion,
    CoreMessage,
    EvidencePiece,
    MachineFailed,
    MachineJob,
    MachineMessage,
    MachineOver,
    MachineReady,
    StopNow,
    Told,
    WantBatch,
    packed,
    unpacked,
)
from wolfbane.cluster.there.abilities import abilities, missing_runtime
from wolfbane.cluster.there.machine_scheduler import run_batches
from wolfbane.cluster.there.machine_workers import relay_workers
from wolfbane.cluster.there.relocated import environments_here
from wolfbane.cluster.there.unpacking import MachineStore
from wolfbane.environments import Mask, mask_of
from wolfbane.events.run_events import Building, Event, Starting
from wolfbane.model import Evidence
from wolfbane.results.evidence_files import EvidenceFiles
from wolfbane.setup.builds import Builder
from wolfbane.setup.environment_setup import EnvironmentSetup
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.run_request import NEVER

_LENGTH = struct.Struct(">Q")
_PIECE = 4 << 20
_TOGETHER = 0.02
"""Seconds that a message waits for further messages."""
_MOST_TOGETHER = 500
_AT_ONCE = (EvidencePiece, WantBatch, MachineOver)
"""Messages that are large, or that the main process waits for."""


class SentEvidence(EvidenceFiles):
    """Evidence that is sent to the main process, with names that no other machine uses.

    Only the start of a file that is larger than the limit is sent, and ``warnings`` names the file.
    """

    def __init__(
        self, job: MachineJob, folder: Path, mask: Mask, send: Callable[[MachineMessage], None]
    ) -> None:
        super().__init__(folder, folder, mask)
        self._job, self._send = job, send
        self._limit = size(job.workspace.settings.cluster.evidence_limit)
        # A machine's name may be its address.
        self._prefix = re.sub(r"[^\w.-]+", "-", job.name)

    def keep(self, address: str, kind: str, content: str | bytes, name: str = "") -> Evidence:
        """Write an evidence file of a test, and send it."""
        kept = super().keep(address, kind, content, name=name)
        file = self._folder / kept.path
        moved = replace(kept, path=f"evidence/{self._prefix}-{file.name}")
        with contextlib.suppress(OSError), file.open("rb") as data:
            left = self._limit
            while piece := data.read(min(_PIECE, left)):
                self._send(EvidencePiece(moved.path, piece))
                left -= len(piece)
            if data.read(1):
                message = f"{moved.path} was shortened ([cluster] evidence_limit)"
                self.warnings.append(f"machine {self._job.name}: {message}")
            file.unlink()
        return moved

    def path(self, evidence: Evidence) -> str:
        """The folder on the main machine."""
        return f"{self._job.folder}/{evidence.path}"


async def run_job(
    job: MachineJob,
    root: Path,
    incoming: asyncio.Queue[CoreMessage | None],
    send: Callable[[MachineMessage], None],
) -> None:
    """Run a machine's part of a run in a copy of the workspace."""
    workspace = replace(job.workspace, root=root, file=None, source=None)
    environments = environments_here(job, root)
    mask = mask_of(environments)
    suites = [workspace.suite(name) for name in job.suites]
    with tempfile.TemporaryDirectory(prefix="wolfbane-machine-") as scratch:
        folder, build = Path(scratch), job.request.build
        browsers = RunBrowsers(workspace, job.request.evidence, tell=None)
        context = RunContext(
            workspace=workspace,
            environments=environments,
            folder=folder,
            browsers=browsers,
            mask=mask,
            jobs=job.jobs,
            no_build=build == NEVER,
        )
        evidence = context.evidence = SentEvidence(job, folder, mask, send=send)
        async with context.pool:
            tell = partial(_tell_from, job.name, send)
            builder = Builder(context, build, tell)
            await builder.build(suites)
            await builder.prepare(suites)
            setup = EnvironmentSetup(context, tell)
            try:
                blocked = await setup.prepare(suites)
                for label in context.environments:
                    for name, failure in builder.failures.items():
                        blocked[label, name] = failure.message
                whys = {suite.name: missing_runtime(workspace, suite) for suite in suites}
                missing = {name: why for name, why in whys.items() if why}
                named = {name for suite in suites for name in suite.browsers}
                send(MachineReady(blocked, missing, browsers.absent(named)))
                await (relay_workers if job.load else run_batches)(context, job, incoming, send)
                await context.pool.finish()
                warnings = [*setup.ended(), *browsers.said(), *evidence.warnings]
                send(MachineOver(warnings, browsers.versions))
            finally:
                await setup.close()


def _tell_from(machine: str, send: Callable[[MachineMessage], None], event: Event) -> None:
    """Send an event of the set-up, which each machine does itself."""
    if isinstance(event, Building | Starting):
        event = replace(event, machine=machine)
    send(Told(event))


async def serve(
    folder: Path,
    incoming: asyncio.Queue[CoreMessage | None],
    send: Callable[[MachineMessage], None],
) -> None:
    """Take one job and run it."""
    job = await incoming.get()
    if not isinstance(job, MachineJob | AbilityQuestion):
        return
    try:
        with MachineStore(folder).tree(job.manifest) as root:
            os.chdir(root)
            if isinstance(job, MachineJob):
                await run_job(job, root, incoming, send=send)
            else:
                send(abilities(replace(job.workspace, root=root)))
    except OSError as error:
        send(MachineFailed(f"{error.strerror or error}"))


class _Sender:
    """Sends messages in groups, because each transfer has a fixed cost."""

    def __init__(self, out: BinaryIO) -> None:
        self._out = out
        self._waiting: list[MachineMessage] = []

    def send(self, message: MachineMessage) -> None:
        """Send a message soon."""
        if not self._waiting:
            asyncio.get_running_loop().call_later(_TOGETHER, self.flush)
        self._waiting.append(message)
        if len(self._waiting) >= _MOST_TOGETHER or isinstance(message, _AT_ONCE):
            self.flush()

    def flush(self) -> None:
        """Send what waits."""
        if self._waiting:
            messages, self._waiting = self._waiting, []
            data = packed(messages)
            self._out.write(_LENGTH.pack(len(data)) + data)
            self._out.flush()


def _read(stream: BinaryIO, deliver: Callable[[CoreMessage | None], None]) -> None:
    """Process messages until the stream ends; then return None."""
    while len(head := stream.read(_LENGTH.size)) == _LENGTH.size:
        deliver(unpacked(stream.read(_LENGTH.unpack(head)[0])))
    deliver(None)


def main() -> None:
    """Run until the job ends, or until standard input ends."""
    # What tests print must not come between the messages.
    sender = _Sender(os.fdopen(os.dup(1), "wb"))
    os.dup2(2, 1)

    async def run() -> None:
        loop = asyncio.get_running_loop()
        incoming: asyncio.Queue[Any] = asyncio.Queue()
        task = asyncio.current_task()
        assert task is not None

        def deliver(message: CoreMessage | None) -> None:
            loop.call_soon_threadsafe(incoming.put_nowait, message)
            if message is None or isinstance(message, StopNow):
                loop.call_soon_threadsafe(task.cancel)

        threading.Thread(target=_read, args=(sys.stdin.buffer, deliver), daemon=True).start()
        with contextlib.suppress(asyncio.CancelledError):
            await serve(Path(sys.argv[1]), incoming, sender.send)
        sender.flush()

    with contextlib.suppress(BrokenPipeError):  # the engine's worker is gone
        asyncio.run(run())


if __name__ == "__main__":
    main()
