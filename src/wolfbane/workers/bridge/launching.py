"""Start a launcher, follow what it prints, and end all of it."""

from __future__ import annotations

import os
import selectors
import shutil
import signal
import subprocess
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import IO

KEPT = 1 << 18
"""Bytes of its last output that are kept."""
TICK = 0.05
Hear = Callable[[bytes], None]


@dataclass(frozen=True)
class Ended:
    """How a launcher ended; ``late`` if it had to be ended, and the last that it printed."""

    code: int
    late: bool
    output: str


def launch(
    command: Sequence[str], variables: Mapping[str, str], limit: float | None, hear: Hear,
    errors: int | IO[bytes] = subprocess.STDOUT,
) -> Ended:  # fmt: skip
    """Run it to its end, or for ``limit`` seconds. Raises OSError where it cannot be started.

    ``hear`` is told its output as it comes; what it says on standard error is part of that, or
    goes to ``errors``.
    """
    process = subprocess.Popen(
        [_found(command[0]), *command[1:]], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
        stderr=errors, env={**os.environ, **variables}, start_new_session=True,
    )  # fmt: skip
    assert process.stdout is not None
    over = threading.Event()

    def end() -> None:
        over.set()
        _kill(process)

    timer = threading.Timer(limit, end) if limit is not None else None
    if timer:
        timer.start()
    try:
        output = _followed(process, process.stdout, hear)
        code = process.wait()
    finally:
        if timer:
            timer.cancel()
        _kill(process)
        process.stdout.close()
    return Ended(code, over.is_set(), output.decode("utf-8", "replace"))


def _found(program: str) -> str:
    """A program of the suite's folder, or one on the path."""
    if "/" in program and not os.path.isabs(program):
        return os.path.abspath(program)
    return shutil.which(program) or program


def _followed(process: subprocess.Popen[bytes], stream: IO[bytes], hear: Hear) -> bytes:
    """Read what it prints, until it has ended: a child may hold the stream open for ever."""
    output = b""
    with selectors.DefaultSelector() as selector:
        selector.register(stream, selectors.EVENT_READ)
        while True:
            if not selector.select(TICK):
                if process.poll() is not None:
                    return output
                continue
            data = os.read(stream.fileno(), 1 << 16)
            if not data:
                return output
            output = (output + data)[-KEPT:]
            hear(data)


def _kill(process: subprocess.Popen[bytes]) -> None:
    """The launcher and all that it started."""
    try:
        os.killpg(process.pid, signal.SIGKILL)
    except (ProcessLookupError, PermissionError):
        pass
