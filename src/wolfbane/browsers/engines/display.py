"""A private virtual screen for browsers that need one, if there is no real screen."""

from __future__ import annotations

import asyncio
import os
import shutil
import struct
import subprocess
import time
from pathlib import Path

from wolfbane.browsers.engines.discovery import DISPLAY_PROGRAM
from wolfbane.browsers.engines.programs import Programs
from wolfbane.browsers.failures import CannotOpen

_PATIENCE = 20.0
_ANY_FAMILY = 0xFFFF
"""``FamilyWild``: the entry is for any address."""
_SIZE = "2560x1600x24"


class Display:
    """One virtual screen for all browsers of a run, started when the first browser needs it."""

    def __init__(self, programs: Programs) -> None:
        self._programs = programs
        self._lock = asyncio.Lock()
        self._name = ""
        self._cookies = programs.scratch / "display.auth"
        self._process: subprocess.Popen[bytes] | None = None

    async def variables(self) -> dict[str, str]:
        """The variables that place a program on this screen. Raises CannotOpen."""
        async with self._lock:
            if self._process is None or self._process.poll() is not None:
                self._name = await self._start()
        return {
            "DISPLAY": self._name,
            "XAUTHORITY": str(self._cookies),
            "GDK_BACKEND": "x11",
            "WAYLAND_DISPLAY": "",
        }

    async def _start(self) -> str:
        program = shutil.which(DISPLAY_PROGRAM)
        if program is None:
            raise CannotOpen(
                f"there is no screen, and {DISPLAY_PROGRAM}, which provides "
                f"a virtual one, is not installed; install it (Debian: xvfb)"
            )
        output = self._programs.scratch / "display.out"
        self._cookies.touch(mode=0o600)
        self._cookies.write_bytes(_cookie_entry(os.urandom(16)))
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
            "-auth",
            str(self._cookies),
        ]
        self._process = self._programs.start(command, {}, output, "display")
        until = time.monotonic() + _PATIENCE
        while time.monotonic() < until and self._process.poll() is None:
            if number := _number(output):
                return f":{number}"
            await asyncio.sleep(0.02)
        message = output.read_text(errors="replace").strip()[-300:]
        raise CannotOpen(f"the virtual screen did not start: {message or 'no output'}")


def _cookie_entry(cookie: bytes) -> bytes:
    """An entry of an authority file, for every display (Xau(3)): without its cookie, other users of
    the machine could see the screen and type on it.
    """
    entry = struct.pack(">H", _ANY_FAMILY)
    for part in (b"", b"", b"MIT-MAGIC-COOKIE-1", cookie):  # the address, the number, the method
        entry += struct.pack(">H", len(part)) + part
    return entry


def _number(path: Path) -> str:
    lines = [line for line in path.read_text(errors="replace").splitlines() if line.isdecimal()]
    if lines:
        return lines[-1]
    return ""
