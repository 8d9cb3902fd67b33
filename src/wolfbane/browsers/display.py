"""A private virtual screen for browsers that need one, if there is no real screen."""

from __future__ import annotations

import asyncio
import shutil
import subprocess
import time
from pathlib import Path

from wolfbane.browsers.failures import CannotOpen
from wolfbane.browsers.finding import DISPLAY_PROGRAM
from wolfbane.browsers.programs import Programs

_PATIENCE = 20.0
_SIZE = "2560x1600x24"


class Display:
    """One virtual screen for all browsers of a run, started when the first browser needs it."""

    def __init__(self, programs: Programs) -> None:
        self._programs = programs
        self._lock = asyncio.Lock()
        self._name = ""
        self._process: subprocess.Popen[bytes] | None = None

    async def variables(self) -> dict[str, str]:
        """The variables that place a program on this screen. Raises CannotOpen."""
        async with self._lock:
            if self._process is None or self._process.poll() is not None:
                self._name = await self._start()
        return {"DISPLAY": self._name, "GDK_BACKEND": "x11", "WAYLAND_DISPLAY": ""}

    async def _start(self) -> str:
        program = shutil.which(DISPLAY_PROGRAM)
        if program is None:
            raise CannotOpen(
                f"there is no screen, and {DISPLAY_PROGRAM}, which provides "
                f"a virtual one, is not installed; install it (Debian: xvfb)"
            )
        output = self._programs.scratch / "display.out"
        command = [
            program,
            "-displayfd",
            "1",
            "-screen",
            "0",
            _SIZE,
            "-nolisten",
            "tcp",
            "-noreset",
        ]
        self._process = self._programs.start(command, {}, output, "display")
        until = time.monotonic() + _PATIENCE
        while time.monotonic() < until and self._process.poll() is None:
            if number := _number(output):
                return f":{number}"
            await asyncio.sleep(0.02)
        words = output.read_text(errors="replace").strip()[-300:]
        raise CannotOpen(f"the virtual screen did not start: {words or 'no output'}")


def _number(path: Path) -> str:
    lines = [line for line in path.read_text(errors="replace").splitlines() if line.isdecimal()]
    return lines[-1] if lines else ""
