"""Runs in the cluster engine's worker on each machine.

It stores files and communicates with a process.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import platform
import struct
import sys
import time
from collections import deque
from pathlib import Path
from typing import Any

import msgspec

from wolfbane import __version__
from wolfbane.cluster.here.packing import Manifest
from wolfbane.cluster.there.unpacking import MachineStore

_LENGTH = struct.Struct(">Q")
_MOST = 16 << 20
"""Maximum number of bytes of messages in one response."""
SILENCE = 30.0
"""Seconds without a message after which the other side counts as lost.

The limit is the same on both sides: a machine ends its tests when they start again on other
machines. It is long, because tests can use all cores of a machine, and the first response of a
machine takes seconds.
"""


class MachineFacts(msgspec.Struct, frozen=True):
    """The properties of a machine: ``memory`` in bytes, 0 if unknown."""

    version: str
    python: str
    system: str
    cores: int
    memory: int


class Machine:
    """An actor of the engine. Methods that are coroutines run in its worker's event loop."""

    def __init__(self, folder: str = "") -> None:
        from distributed import get_worker
        from platformdirs import user_cache_path

        self._worker: Any = get_worker()
        self._folder = Path(folder) if folder else user_cache_path("wolfbane") / "machine"
        self._store = MachineStore(self._folder)
        self._process: asyncio.subprocess.Process | None = None
        self._messages: deque[bytes] = deque()
        self._came = asyncio.Event()
        self._asked = time.monotonic()
        self._tasks: set[asyncio.Task[Any]] = set()
        self._ended = False

    async def facts(self) -> MachineFacts:
        """The properties of this machine."""
        import psutil

        return MachineFacts(
            version=__version__,
            python=platform.python_version(),
            system=f"{platform.system()} {platform.machine()}",
            cores=len(os.sched_getaffinity(0)),
            memory=psutil.virtual_memory().total,
        )

    async def clock(self) -> float:
        """The time on this machine, as in ``time.time``."""
        return time.time()

    def lacking(self, manifest: bytes) -> list[str]:
        """The hashes of the missing contents. ``manifest`` is a Manifest as JSON."""
        self._store.tidy()
        wanted = msgspec.json.decode(manifest, type=Manifest)
        return [file.content for file in self._store.lacking(wanted)]

    def take(self, contents: dict[str, bytes]) -> str:
        """Store contents; returns the reason if that failed."""
        try:
            self._store.take(contents)
        except OSError as error:
            return str(error.strerror or error)
        return ""

    async def start(self) -> None:
        """Start the process that runs tests."""
        self._asked = time.monotonic()
        self._process = await asyncio.create_subprocess_exec(
            sys.executable,
            "-P",
            "-m",
            "wolfbane.cluster.there.machine_process",
            str(self._folder),
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            start_new_session=True,
        )
        for work in (self._hear(), self._watch()):
            task = asyncio.create_task(work)
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    async def send(self, messages: list[bytes]) -> None:
        """Pass messages to the process."""
        self._asked = time.monotonic()
        if self._process is not None and self._process.stdin is not None:
            for message in messages:
                self._process.stdin.write(_LENGTH.pack(len(message)) + message)
            # If the process has ended, its last messages can still be received.
            with contextlib.suppress(ConnectionError):
                await self._process.stdin.drain()

    async def receive(self, wait: float) -> tuple[list[bytes], bool]:
        """Messages of the process, within ``wait`` seconds, and whether it has ended."""
        self._asked = time.monotonic()
        if not self._messages and not self._ended:
            self._came.clear()
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(wait):
                    await self._came.wait()
        messages: list[bytes] = []
        size = 0
        while self._messages and size < _MOST:
            messages.append(self._messages.popleft())
            size += len(messages[-1])
        return messages, self._ended and not self._messages

    async def close(self) -> None:
        """End the process and all its child processes."""
        process, self._process = self._process, None
        if process is None:
            return
        if process.stdin is not None:
            process.stdin.close()  # it ends what it started, and then itself
        try:
            async with asyncio.timeout(10):
                await process.wait()
        except TimeoutError:
            process.kill()  # its watchdog ends what it started
            await process.wait()

    async def _hear(self) -> None:
        assert self._process is not None and self._process.stdout is not None
        stream = self._process.stdout
        try:
            while True:
                head = await stream.readexactly(_LENGTH.size)
                self._messages.append(await stream.readexactly(_LENGTH.unpack(head)[0]))
                self._came.set()
        except (asyncio.IncompleteReadError, ConnectionError):
            self._ended = True
            self._came.set()

    async def _watch(self) -> None:
        """Nothing keeps running for a client that was lost."""
        while self._process is not None:
            await asyncio.sleep(1)
            if self._is_released() or time.monotonic() - self._asked > SILENCE:
                await self.close()

    def _is_released(self) -> bool:
        """Whether the engine has released this actor, because the client that started the run was
        lost.
        """
        return all(actor is not self for actor in self._worker.state.actors.values())
