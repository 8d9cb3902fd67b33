"""A terminal for one test: shows its output immediately, and passes typed input to it."""

from __future__ import annotations

import asyncio
import codecs
import contextlib
import fcntl
import os
import shutil
import struct
import sys
import termios
import tty
from collections.abc import Callable
from types import TracebackType

_KEPT = 1 << 20
"""Characters of the last output that are kept for the record."""
_END_OF_INPUT = b"\x04"


class LiveTerminal:
    """A pseudo-terminal between a worker and the streams of this process.

    The worker has its own session with this terminal: line editing, and Ctrl-C for the test only,
    work as if the test were started by hand. ``mask`` hides secrets in the shown output.
    """

    def __init__(self, mask: Callable[[str], str]) -> None:
        self._mask = mask
        self._decode = codecs.getincrementaldecoder("utf-8")("replace").decode
        self._printed, self._at_start = "", True
        self._own, self.slave = os.openpty()
        os.set_blocking(self._own, False)
        self._saved: list[object] | None = None
        self._reads_input = False

    def __enter__(self) -> LiveTerminal:
        size = shutil.get_terminal_size()
        rows_and_columns = struct.pack("HHHH", size.lines, size.columns, 0, 0)
        fcntl.ioctl(self._own, termios.TIOCSWINSZ, rows_and_columns)
        modes = termios.tcgetattr(self.slave)
        if not _is_terminal(0):
            modes[3] &= ~termios.ECHO  # what was typed is on no screen
        if not _is_terminal(1):
            modes[1] &= ~termios.OPOST  # lines end as the test ended them
        termios.tcsetattr(self.slave, termios.TCSANOW, modes)
        if _is_terminal(0):
            self._saved = termios.tcgetattr(0)
            tty.setraw(0)
        loop = asyncio.get_running_loop()
        loop.add_reader(self._own, self._show)
        with contextlib.suppress(OSError):  # a file is always ready, and cannot be waited for
            loop.add_reader(0, self._take_input)
            self._reads_input = True
        if not self._reads_input:
            self._type(sys.stdin.buffer.read() + _END_OF_INPUT)
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        loop = asyncio.get_running_loop()
        self._show()
        if not self._at_start:
            sys.stdout.write("\r\n" if self._saved is not None else "\n")
        loop.remove_reader(self._own)
        self._stop_input()
        if self._saved is not None:
            termios.tcsetattr(0, termios.TCSADRAIN, self._saved)  # type: ignore[arg-type]
        os.close(self._own)
        os.close(self.slave)

    def become_controlling(self) -> None:
        """Make it the controlling terminal of the calling process's session."""
        fcntl.ioctl(0, termios.TIOCSCTTY, 0)

    def taken(self) -> str:
        """The output since the last call, for the record."""
        self._show()
        text, self._printed = self._printed, ""
        return text.replace("\r\n", "\n")

    def _show(self) -> None:
        with contextlib.suppress(OSError):  # nothing is there, or nobody has it open any more
            while data := os.read(self._own, 1 << 16):
                text = self._mask(self._decode(data))
                self._printed = (self._printed + text)[-_KEPT:]
                self._at_start = text.endswith("\n") if text else self._at_start
                sys.stdout.write(text)
                sys.stdout.flush()

    def _take_input(self) -> None:
        data = os.read(0, 1 << 12)
        if data:
            self._type(data)
        else:
            self._type(_END_OF_INPUT)
            self._stop_input()

    def _type(self, data: bytes) -> None:
        with contextlib.suppress(OSError):
            os.write(self._own, data)

    def _stop_input(self) -> None:
        if self._reads_input:
            asyncio.get_running_loop().remove_reader(0)
            self._reads_input = False


def _is_terminal(descriptor: int) -> bool:
    try:
        return os.isatty(descriptor)
    except OSError:
        return False
