"""Starts the programs of browsers, and ends them with all their child processes."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Protocol

from wolfbane.browsers.failures import CannotOpen

_LEAST = 2 << 20
"""Bytes. With less space, browsers hang and report no error."""
LONGEST = 107 - len("/123/org.chromium.Chromium.123456/SingletonSocket")
"""Maximum length of the folder for browsers' files, because a socket's path has at most 107
characters (unix(7)).
"""


class Starter(Protocol):
    """Starts and ends the processes of a run."""

    scratch: Path

    def start(
        self,
        arguments: Sequence[str],
        folder: Path,
        environment: Mapping[str, str],
        output: Path | int,
        member: str,
    ) -> subprocess.Popen[bytes]:
        """Start a program. Raises OSError."""

    def end(self, process: subprocess.Popen[bytes], member: str) -> None:
        """End a program and everything it started."""


class Programs:
    """Starts browser programs in their own folder, which is removed with the run."""

    def __init__(self, starter: Starter) -> None:
        self._starter = starter
        self.scratch = starter.scratch / "b"  # short: see LONGEST
        self.scratch.mkdir(exist_ok=True)
        self._count = 0

    def folder(self) -> Path:
        """A new, empty folder for a profile."""
        self._count += 1
        path = self.scratch / str(self._count)
        path.mkdir()
        return path

    def see_to_room(self, name: str) -> None:
        """Raise CannotOpen if there is no disk space for a browser's profile."""
        free = shutil.disk_usage(self.scratch).free
        if free < _LEAST:
            message = f"not enough disk space for a profile in {self.scratch.parent}"
            raise CannotOpen(f"browser '{name}': {message} ({free:,} bytes left)")

    def see_to_length(self, name: str) -> None:
        """Raise CannotOpen if Chromium cannot create its socket, because Chromium itself gives no
        reason.
        """
        if len(str(self.scratch)) > LONGEST:
            folder = self.scratch.parent.parent
            message = f"the path of the folder for temporary files is too long: {folder}"
            raise CannotOpen(f"browser '{name}': {message} (set TMPDIR to a shorter one)")

    def start(
        self, command: Sequence[str], variables: Mapping[str, str], output: Path, member: str
    ) -> subprocess.Popen[bytes]:
        """Start a program that prints to a file. Raises OSError."""
        return self._starter.start(command, self.scratch, variables, output, f"browser-{member}")

    def end(self, process: subprocess.Popen[bytes], member: str) -> None:
        """End it with everything that it started."""
        self._starter.end(process, f"browser-{member}")
