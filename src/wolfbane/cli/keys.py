"""Reads single keys, without Enter if there is a terminal."""

from __future__ import annotations

import os
import select
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import TracebackType

TICK = 0.1
"""Seconds to wait for a key."""


class KeyReader:
    """Reads standard input one character at a time. As a context manager, it restores the terminal.

    Input that is not a terminal is read in the same way. After its end there are no more keys.
    """

    def __init__(self) -> None:
        self._stream = sys.stdin.fileno()
        self._terminal = sys.stdin.isatty()
        self._over = False

    def __enter__(self) -> KeyReader:
        if self._terminal:
            import termios

            self._before = termios.tcgetattr(self._stream)
        self._single()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._whole_lines()

    def pressed(self) -> str:
        """The next key, or an empty text after a short time."""
        if self._over:
            threading.Event().wait(TICK)
            return ""
        ready, _, _ = select.select([self._stream], [], [], TICK)
        if not ready:
            return ""
        read = os.read(self._stream, 1)
        self._over = not read
        return read.decode("ascii", "replace")

    @contextmanager
    def lines(self) -> Iterator[None]:
        """Read whole lines again, to ask for one."""
        self._whole_lines()
        try:
            yield
        finally:
            self._single()

    def _single(self) -> None:
        if self._terminal:
            import termios
            import tty

            tty.setcbreak(self._stream, termios.TCSANOW)

    def _whole_lines(self) -> None:
        if self._terminal:
            import termios

            termios.tcsetattr(self._stream, termios.TCSANOW, self._before)
