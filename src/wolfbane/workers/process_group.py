"""Starts worker processes, and ends them with all their child processes."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from wolfbane.workers.run_processes import MARKER, end_all, end_marked, remove_folder

if TYPE_CHECKING:
    import psutil

    from wolfbane.workers.terminal import LiveTerminal

_WATCHDOG = Path(__file__).with_name("watchdog.py")
_SET_CHILD_SUBREAPER = 36  # linux/prctl.h


class ProcessGroup:
    """All processes of one run.

    Each has a mark in its environment variables, which child processes inherit.

    A test may clear the environment of the processes that it starts. So each member has its own
    session, and, if the system supports it (Linux), processes that lose their parent become
    children of Wolfbane's process, which ends them at the end of the run at the latest.

    A watchdog, a small separate process, ends them all if Wolfbane itself is killed. It also
    removes ``scratch``, a private folder for files that may contain secrets.
    """

    def __init__(self) -> None:
        self.mark = os.urandom(8).hex()
        self.scratch = Path(tempfile.gettempdir(), f"wolfbane-run-{os.urandom(4).hex()}")
        self._chain = os.environ.get(MARKER, "")
        self._watchdog: subprocess.Popen[bytes] | None = None
        self._members: set[int] = set()
        self._unrelated: set[int] = set()
        self._starting = threading.Lock()
        self._adopts = False

    def __enter__(self) -> ProcessGroup:
        self._adopts = _adopt_orphans(True)
        self._unrelated |= _children()  # whoever imports Wolfbane may have some of its own
        # Without site it starts in a fifth of the time.
        script = [sys.executable, "-I", "-S", str(_WATCHDOG)]
        self._watchdog = subprocess.Popen(
            [*script, self.mark, str(self.scratch), os.pathsep.join(sys.path)],
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        self._unrelated.add(self._watchdog.pid)
        # Not before: were Wolfbane killed between the two, the folder would stay for ever.
        self.scratch.mkdir(mode=0o700)
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        # Where orphans become children of this process, what is left of the run is among them:
        # to look at every process of the machine takes longer than a small run.
        also = None
        if self._adopts:
            also = self._is_adopted
        if not self._adopts or _children() - self._unrelated:
            end_marked(self.mark, also=also)
        if self._adopts:
            _adopt_orphans(False)
        self._tell_watchdog(b"over")
        if self._watchdog is not None and self._watchdog.stdin is not None:
            with contextlib.suppress(OSError):
                self._watchdog.stdin.close()
            self._watchdog.wait()
        remove_folder(self.scratch)

    def start(
        self,
        arguments: Sequence[str],
        folder: Path,
        environment: Mapping[str, str],
        output: Path | int,
        member: str,
        terminal: LiveTerminal | None = None,
    ) -> subprocess.Popen[bytes]:
        """Start one member in its own session, with output to a file. Raises OSError.

        With a ``terminal``, it uses the terminal for input and output.
        """
        chain = f"{self._chain}:{self.mark}:{self.mark}.{member}"
        self.scratch.mkdir(mode=0o700, exist_ok=True)  # a test may have taken it away
        with self._starting, open(output, "ab", closefd=isinstance(output, Path)) as printed:
            process = subprocess.Popen(
                list(arguments),
                cwd=folder,
                env={**os.environ, **environment, MARKER: chain},
                stdin=terminal.slave if terminal else subprocess.DEVNULL,
                stdout=terminal.slave if terminal else printed,
                stderr=terminal.slave if terminal else printed,
                start_new_session=True,
                # One call to the system, which takes no lock that another thread might have.
                preexec_fn=terminal.become_controlling if terminal else None,  # noqa: PLW1509
            )
            self._members.add(process.pid)
        self._tell_watchdog(f"{process.pid}\n".encode())
        return process

    def end(self, process: subprocess.Popen[bytes], member: str) -> None:
        """End a member, its group, its child processes, and the rest of its session.

        A member that ended by itself may also have left processes.
        """
        ended = process.poll() is not None
        if ended:
            below = []
        else:
            below = _descendants(process.pid)
        with contextlib.suppress(OSError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        if ended and self._adopts and not self._orphans():
            return
        if below:
            end_all(below.__contains__)
        end_marked(f"{self.mark}.{member}", {process.pid})

    def _orphans(self) -> set[int]:
        """Processes that this process did not start, but that are its children."""
        with self._starting:
            return _children() - self._members - self._unrelated

    def _is_adopted(self, process: psutil.Process) -> bool:
        """Whether this process did not start it, but has it as a child."""
        import psutil

        with self._starting:
            if process.pid in self._members | self._unrelated:
                return False
        try:
            return process.ppid() == os.getpid() and os.getsid(process.pid) != os.getsid(0)
        except (psutil.Error, OSError):
            return False

    def _tell_watchdog(self, message: bytes) -> None:
        if self._watchdog is not None and self._watchdog.stdin is not None:
            with contextlib.suppress(OSError):
                self._watchdog.stdin.write(message)
                self._watchdog.stdin.flush()


def _children() -> set[int]:
    """The child processes of this process. Linux lists them for each thread."""
    try:
        lists = [path.read_text() for path in Path("/proc/self/task").glob("*/children")]
    except OSError:  # a thread has just ended
        lists = []
    if lists:
        return {int(pid) for text in lists for pid in text.split()}
    import psutil

    return {child.pid for child in psutil.Process().children()}


def _descendants(process: int) -> list[psutil.Process]:
    import psutil

    try:
        return psutil.Process(process).children(recursive=True)
    except psutil.Error:
        return []


def _adopt_orphans(wanted: bool) -> bool:
    """Make orphaned descendants children of this process; returns whether that works."""
    if sys.platform != "linux":
        return False
    import ctypes

    try:
        prctl = ctypes.CDLL(None).prctl
    except (OSError, AttributeError):
        return False
    return bool(prctl(_SET_CHILD_SUBREAPER, ctypes.c_ulong(wanted), 0, 0, 0) == 0)
