"""Finds and ends the processes of a run."""

from __future__ import annotations

import contextlib
import os
import shutil
import time
from collections.abc import Callable, Collection
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import psutil

MARKER = "WOLFBANE_RUN"
_ROUNDS = 20
"""Interval between two scans: processes that are being killed may start more."""
_A_MOMENT = 0.02
_DYING = 0.5
_A_LOOK = 0.005
"""Seconds: how long killed processes may take to end, and between two scans."""


def end_marked(
    mark: str, sessions: Collection[int] = (), also: Callable[[psutil.Process], bool] | None = None
) -> None:
    """Kill every process that belongs to a run, and those that they start during this time.

    These are the processes with the mark in their environment, and those of the ``sessions`` that
    members started: a process may clear its environment, but cannot leave its session unnoticed.
    ``also`` may return more of them.
    """

    def belongs(process: psutil.Process) -> bool:
        known = _in_session(process, sessions) or _carries(process, mark)
        return known or (also is not None and also(process))

    end_all(belongs)


def end_all(belongs: Callable[[psutil.Process], bool]) -> None:
    """Kill every process that a scan finds, until there is none."""
    import psutil

    own = psutil.Process().pid
    for _ in range(_ROUNDS):
        processes = [process for process in psutil.process_iter() if process.pid != own]
        alive = [process for process in processes if belongs(process) and _is_alive(process)]
        if not alive:
            return
        for process in alive:
            with contextlib.suppress(psutil.Error):
                process.kill()
        until = time.monotonic() + _DYING
        while alive and time.monotonic() < until:
            # Again and again, for a process may have become a child of this one only now, where its
            # parent ended: one longer wait would not see it end.
            time.sleep(_A_LOOK)
            alive = psutil.wait_procs(alive, timeout=0)[1]


def remove_folder(folder: Path) -> None:
    """Remove a folder that may contain secrets: processes that are being killed may write there
    until they end.
    """
    for _ in range(_ROUNDS):
        shutil.rmtree(folder, ignore_errors=True)
        if not folder.exists():
            return
        time.sleep(_A_MOMENT)


def _is_alive(process: psutil.Process) -> bool:
    import psutil

    try:
        return bool(process.status() != psutil.STATUS_ZOMBIE)
    except psutil.Error:
        return False


def _in_session(process: psutil.Process, sessions: Collection[int]) -> bool:
    try:
        return bool(sessions) and os.getsid(process.pid) in sessions
    except OSError:
        return False


def _carries(process: psutil.Process, mark: str) -> bool:
    import psutil

    try:
        return mark in process.environ().get(MARKER, "").split(":")
    except (psutil.Error, OSError):
        return False
