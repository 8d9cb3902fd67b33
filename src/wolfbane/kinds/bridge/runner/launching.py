"""Starts a launcher, reads its output, and ends all its processes."""

from __future__ import annotations

import contextlib
import os
import selectors
import shutil
import signal
import subprocess
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from wolfbane.kinds.bridge.runner.start_limit import StartLimit

KEPT = 1 << 18
"""Maximum number of bytes of its last output."""
TICK = 0.05
Hear = Callable[[bytes], None]


@dataclass(frozen=True)
class LauncherEnd:
    """The end of a launcher: its exit code, its last output, and ``late`` if it was stopped.

    ``errors`` is the part on standard error, if the streams were separate. A launcher that keeps
    running may have no exit code (``has_code``).
    """

    code: int
    late: bool
    output: str
    errors: str
    has_code: bool = True


def launch(
    command: Sequence[str],
    variables: Mapping[str, str],
    limit: StartLimit | None,
    hear: Hear,
    *,
    apart: bool,
    folder: str = "",
    given: str = os.devnull,
) -> LauncherEnd:
    """Run it to its end, or as long as the limit lasts. Raises OSError if it cannot be started.

    ``hear`` receives its output immediately; standard error is part of it, or separate with
    ``apart``. Without a ``folder``, it runs in the folder of this process. ``given`` is the file of
    its standard input.
    """
    with Path(given).open("rb") as stdin:
        process = subprocess.Popen(
            [found_program(command[0], folder), *command[1:]],
            cwd=folder or None,
            stdin=stdin,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE if apart else subprocess.STDOUT,
            env={**os.environ, **variables},
            start_new_session=True,
        )
    printed = _Printed(hear)
    try:
        with contextlib.ExitStack() as streams:
            if process.stdout:
                printed.follow(streams.enter_context(process.stdout), printed.said)
            if process.stderr:
                printed.follow(streams.enter_context(process.stderr), printed.complained)
            late = not printed.until(process, limit)
            if late:
                end_group(process)
            code = process.wait()
    finally:
        end_group(process)
    return LauncherEnd(
        code=code, late=late, output=_text(printed.output), errors=_text(printed.errors)
    )


def _text(data: bytes) -> str:
    return data.decode("utf-8", "replace")


class _Printed:
    """Reads a launcher's output while it runs, and keeps the last part."""

    def __init__(self, hear: Hear) -> None:
        self.output, self.errors = b"", b""
        self._hear = hear
        self._selector = selectors.DefaultSelector()

    def follow(self, stream: IO[bytes], take: Hear) -> None:
        """Read a stream, and process its data."""
        self._selector.register(stream, selectors.EVENT_READ, take)

    def said(self, data: bytes) -> None:
        """It printed something."""
        self.output = (self.output + data)[-KEPT:]
        self._hear(data)

    def complained(self, data: bytes) -> None:
        """The launcher wrote to standard error."""
        self.output = (self.output + data)[-KEPT:]
        self.errors = (self.errors + data)[-KEPT:]

    def until(self, process: subprocess.Popen[bytes], limit: StartLimit | None) -> bool:
        """Read until the launcher has ended, because a child process may keep the streams open.

        False if it is still running and the limit is over.
        """
        with self._selector as selector:
            while selector.get_map() or process.poll() is None:
                ready = selector.select(TICK)
                if not ready and process.poll() is not None:
                    return True
                if limit and limit.is_over:
                    return False
                for key, _ in ready:
                    data = os.read(key.fd, 1 << 16)
                    if data:
                        key.data(data)
                    else:
                        selector.unregister(key.fileobj)
        return True


def found_program(program: str, folder: str) -> str:
    """A program in the suite's folder, or on the ``PATH``."""
    if "/" in program and not os.path.isabs(program):
        return os.path.abspath(os.path.join(folder, program))
    return shutil.which(program) or program


def end_group(process: subprocess.Popen[bytes]) -> None:
    """Kill a launcher and all its child processes."""
    try:
        os.killpg(process.pid, signal.SIGKILL)
    except (ProcessLookupError, PermissionError):
        pass
