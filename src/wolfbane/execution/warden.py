"""The warden: waits beside a run and ends its processes if Wolfbane dies without doing so.

Run as a script with a mark and a folder; standard input is a pipe whose other end only Wolfbane
holds. When the pipe ends without the word ``over``, every process that carries the mark is
killed, and the folder removed.
"""

from __future__ import annotations

import contextlib
import shutil
import sys

MARKER = "WOLFBANE_RUN"


def end_marked(mark: str) -> None:
    """Kill every process whose environment carries the mark, and those they start meanwhile."""
    import psutil

    own = psutil.Process().pid
    for _ in range(20):
        found = [process for process in psutil.process_iter() if process.pid != own]
        alive = [process for process in found if _carries(process, mark)]
        if not alive:
            return
        for process in alive:
            with contextlib.suppress(psutil.Error):
                process.kill()
        psutil.wait_procs(alive, timeout=0.5)


def _carries(process: object, mark: str) -> bool:
    import psutil

    assert isinstance(process, psutil.Process)
    try:
        if process.status() == psutil.STATUS_ZOMBIE:
            return False
        return mark in process.environ().get(MARKER, "").split(":")
    except (psutil.Error, OSError):
        return False


if __name__ == "__main__" and sys.stdin.buffer.read() != b"over":
    end_marked(sys.argv[1])
    shutil.rmtree(sys.argv[2], ignore_errors=True)
