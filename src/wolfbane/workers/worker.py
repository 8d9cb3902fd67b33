"""One worker process: sends it requests, supervises it, and finds out how it ended."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import time
from collections.abc import Callable
from enum import Enum
from typing import TYPE_CHECKING

import msgspec

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.model import NESTED
from wolfbane.workers.channel import ChannelServer, Connection, Request, Unreadable
from wolfbane.workers.message_data import Message
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workers.protocol import (
    FinishedMessage,
    HelloMessage,
    OutputMessage,
    StartedMessage,
    WorkerMessage,
    WrongMessage,
)
from wolfbane.workers.worker_command import StartedWorker

if TYPE_CHECKING:
    from wolfbane.browsers.worker_endpoints import WorkerEndpoint

START_LIMIT = 60.0
FLOOD = 100 << 20
KEPT = 1 << 20
ABORT_GRACE = 0.5
_LAST_WORDS = 0.5
"""Seconds to wait for the last messages of a worker that ended, while a child has its channel."""


class End(Enum):
    """The way a request to a worker ended."""

    DONE = "done"
    CRASHED = "crashed"
    TIMED_OUT = "timed out"
    FLOODED = "flooded"
    NONSENSE = "nonsense"
    STOPPED = "stopped"


class RequestEnd(msgspec.Struct, frozen=True):
    """The end of a request: the running test, and a text about it."""

    end: End
    current: str = ""
    message: str = ""
    seconds: float = 0.0


class Worker:
    """A running worker. It handles one request at a time. Call ``tick`` often."""

    def __init__(
        self,
        server: ChannelServer,
        group: ProcessGroup,
        started: StartedWorker,
        endpoint: WorkerEndpoint | None = None,
        farewell: Callable[[], None] | None = None,
    ) -> None:
        start = started.start
        self.endpoint = endpoint
        self._farewell = farewell
        self.loaded: set[str] = set()
        self.dead = False
        self._server, self._group, self._member = server, group, start.member
        self._capture, self._terminal = start.capture, start.terminal
        self._connection: Connection | None = None
        self._ready: asyncio.Future[RequestEnd] | None = None
        self._listen: Callable[[WorkerMessage], None] = lambda message: None
        self._last_word = time.monotonic()
        self._running: dict[str, float] = {}
        self._exited_at: float | None = None
        self._aborted_at: float | None = None
        self._limit = START_LIMIT
        self._until: type[Message] = HelloMessage
        self._token = started.token
        server.expect(self._token, self._hear)
        self._greeting = {
            **start.command.options,
            "type": "options",
            "root": str(start.root),
            "capture": str(start.capture),
            "live": start.terminal is not None,
        }
        self.process = started.process

    @property
    def browser(self) -> str:
        """The browser for its sessions, if it has any."""
        if self.endpoint:
            return self.endpoint.browser
        return ""

    @property
    def gone(self) -> bool:
        """Whether it can receive no more requests. Its process may end between two requests."""
        return self.dead or self.process.poll() is not None

    async def ask(
        self,
        request: Request | None,
        until: type[Message],
        listen: Callable[[WorkerMessage], None],
        limit: float,
    ) -> RequestEnd:
        """Send a request and wait for a message of the type ``until``. ``listen`` hears all.

        ``limit`` is the longest silence, in seconds. ``None`` waits for the hello.
        """
        self._ready = asyncio.get_running_loop().create_future()
        self._until, self._listen, self._limit = until, listen, limit
        self._last_word = time.monotonic()
        self._running.clear()
        if self._connection is not None:
            if request is None:  # it said hello before anybody waited for that
                return RequestEnd(End.DONE)
            self._connection.send(request)
        try:
            return await self._ready
        finally:
            self._ready = None

    def tell(self, message: Request) -> None:
        """Send a message in addition to the request in progress."""
        if self._connection is not None:
            self._connection.send(message)

    def stop(self) -> None:
        """End the worker now; a request in progress ends as stopped."""
        self._fail(End.STOPPED, "")

    def retire(self) -> None:
        """Close the channel, which asks the worker to end by itself."""
        if self._connection is not None:
            self._connection.close()

    async def bury(self, patience: float = 2.0) -> None:
        """Ensure that the process and all its child processes have ended."""
        limit = time.monotonic() + patience
        while self.process.poll() is None and time.monotonic() < limit and not self.dead:
            await asyncio.sleep(0.005)
        self._server.forget(self._token)
        if self._farewell is not None:
            self._farewell()
        self._group.end(self.process, self._member)
        with contextlib.suppress(OSError):
            self._capture.unlink()

    def tick(self, now: float) -> None:
        """Check whether the worker died, exceeded its limit, or prints without end."""
        if self._ready is None or self.dead:
            return
        gone = self.process.poll() is not None
        since = self._slowest[1]
        if self._aborted_at is not None:
            if gone or now - self._aborted_at > ABORT_GRACE:
                self._fail(End.TIMED_OUT, "")
        elif gone:
            self._exited_at = self._exited_at or now
            heard = self._connection is not None and self._connection.lost
            if heard or now - self._exited_at > _LAST_WORDS:
                self._fail(End.CRASHED, how_it_ended(self.process.returncode))
        elif now - since > self._limit:
            self._aborted_at = now
            with contextlib.suppress(OSError):
                self.process.send_signal(signal.SIGABRT)  # runtimes print where they are
        elif self._printed() > FLOOD:
            self._fail(End.FLOODED, f"printed more than {FLOOD >> 20} MiB")

    def printed(self) -> str:
        """The content of the capture file: the last output of a worker that ended."""
        if self._terminal is not None:
            return self._terminal.taken()
        try:
            with self._capture.open("rb") as file:
                file.seek(max(0, self._printed() - KEPT))
                return file.read(KEPT).decode("utf-8", "replace")
        except OSError:
            return ""

    def _printed(self) -> int:
        try:
            return self._capture.stat().st_size
        except OSError:
            return 0

    def _hear(self, connection: Connection, message: WorkerMessage | Unreadable) -> None:
        if self.dead or self._aborted_at is not None:
            return
        self._last_word = time.monotonic()
        if connection is not self._connection:
            first = self._connection is None
            self._connection = connection
            if first:
                connection.send(self._greeting)
        if isinstance(message, Unreadable):
            problem = f"the worker sent an invalid message: {message.text} ({message.problem})"
            self._fail(End.NONSENSE, problem)
            return
        if isinstance(message, StartedMessage):
            self._running[message.address] = self._last_word
        elif isinstance(message, FinishedMessage):
            self._over(message.address)
        try:
            if self._terminal is not None and isinstance(message, FinishedMessage):
                self._listen(OutputMessage(message.address, self._terminal.taken()))
            self._listen(message)
        except WrongMessage as error:
            self._fail(End.NONSENSE, f"the last message of the worker is not valid: {error}")
            return
        if isinstance(message, self._until) and self._ready and not self._ready.done():
            self._ready.set_result(RequestEnd(End.DONE))

    def _over(self, address: str) -> None:
        """A test ended. If it ran inside others, their time limit starts again."""
        self._running.pop(address, None)
        for other in self._running:
            if address.startswith(f"{other}{NESTED}"):
                self._running[other] = self._last_word

    @property
    def _slowest(self) -> tuple[str, float]:
        """The longest running test without another inside it, and its start time."""
        running = self._running
        inmost = [
            (began, address)
            for address, began in running.items()
            if not any(other.startswith(f"{address}{NESTED}") for other in running)
        ]
        began, address = min(inmost, default=(self._last_word, ""))
        return address, began

    def _fail(self, end: End, message: str) -> None:
        if self.dead:
            return
        self.dead = True
        current = next(reversed(self._running), "")
        if end is End.TIMED_OUT:
            current = self._slowest[0]
        seconds = 0.0
        if current:
            seconds = time.monotonic() - self._running[current]
        outcome = RequestEnd(end=end, current=current, message=message, seconds=seconds)
        self._group.end(self.process, self._member)
        if self._ready is not None and not self._ready.done():
            self._ready.set_result(outcome)
