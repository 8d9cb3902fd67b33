"""Captures the output of a test.

Descriptors 1 and 2 write to a file that is emptied after each test.
"""

from __future__ import annotations

import os
import sys

KEPT = 1 << 20


class Capture:
    """Reads and empties the worker's output file.

    Output goes directly to the file, so Wolfbane can read the output of a crashing test, and the
    output of child processes is also captured.
    """

    def __init__(self, path: str, live: bool = False) -> None:
        """``live``: the user watches a terminal, where the output stays."""
        self._path, self._live = path, live
        self._file = os.open(path, os.O_RDWR | os.O_APPEND | os.O_CREAT)
        self._identity = self._inode(self._file)
        for stream in (sys.stdout, sys.stderr):
            reconfigure = getattr(stream, "reconfigure", None)
            if reconfigure is not None:
                reconfigure(errors="backslashreplace", line_buffering=True)
        self._streams = (sys.stdout, sys.stderr)

    def take(self) -> str:
        """The output since the last call; the middle of very long output is omitted."""
        for stream in (*self._streams, sys.stdout, sys.stderr)[: self._streams_to_flush()]:
            try:
                stream.flush()
            except Exception:  # a test may leave any object behind as sys.stdout
                pass
        if self._live:
            return ""
        size = self._mend()
        if not size:
            return ""
        self._open_again()
        if size <= KEPT:
            text = os.pread(self._file, size, 0).decode("utf-8", "replace")
        else:
            head = os.pread(self._file, KEPT // 2, 0).decode("utf-8", "replace")
            tail = os.pread(self._file, KEPT // 2, size - KEPT // 2).decode("utf-8", "replace")
            text = f"{head}\n[... {size - KEPT} bytes omitted ...]\n{tail}"
        os.ftruncate(self._file, 0)
        return text

    def _streams_to_flush(self) -> int:
        if (sys.stdout, sys.stderr) == self._streams:
            return 2
        return 4

    def _mend(self) -> int:
        """Open descriptors again that a test closed or redirected; returns the file's size."""
        try:
            first, second = os.fstat(1), os.fstat(2)
        except OSError:
            pass
        else:  # almost always: no look at ours
            if (first.st_dev, first.st_ino) == self._identity == (second.st_dev, second.st_ino):
                return first.st_size
        self._open_again()
        for descriptor in (1, 2):
            os.dup2(self._file, descriptor)
        return os.fstat(self._file).st_size

    def _open_again(self) -> None:
        """Open the file again if a test closed Wolfbane's descriptor."""
        if self._inode(self._file) != self._identity:
            self._file = os.open(self._path, os.O_RDWR | os.O_APPEND | os.O_CREAT)

    @staticmethod
    def _inode(descriptor: int) -> object:
        try:
            status = os.fstat(descriptor)
        except OSError:
            return None
        return status.st_dev, status.st_ino
