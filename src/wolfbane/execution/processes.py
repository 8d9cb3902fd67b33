"""Start worker processes, and end them with everything they started."""

from __future__ import annotations

import contextlib
import os
import secrets
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import TracebackType

from wolfbane.execution import warden

MARKER = warden.MARKER


class Family:
    """All processes of one run. Each carries a mark in its environment that children inherit.

    A warden, a small process of its own, ends them all should Wolfbane itself be killed. It
    takes away ``scratch``, too: a private folder for what may hold secrets.
    """

    def __init__(self) -> None:
        self.mark = secrets.token_hex(8)
        self.scratch = Path(tempfile.mkdtemp(prefix="wolfbane-run-"))
        self._chain = os.environ.get(MARKER, "")
        self._warden: subprocess.Popen[bytes] | None = None

    def __enter__(self) -> Family:
        self._warden = subprocess.Popen(
            [sys.executable, str(Path(warden.__file__)), self.mark, str(self.scratch)],
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        warden.end_marked(self.mark)
        if self._warden is not None and self._warden.stdin is not None:
            with contextlib.suppress(OSError):
                self._warden.stdin.write(b"over")
                self._warden.stdin.close()
            self._warden.wait()
        shutil.rmtree(self.scratch, ignore_errors=True)

    def start(
        self,
        arguments: Sequence[str],
        folder: Path,
        environment: Mapping[str, str],
        output: Path | int,
        member: str,
    ) -> subprocess.Popen[bytes]:
        """Start one member in a session of its own, printing to a file. Raises OSError."""
        chain = f"{self._chain}:{self.mark}:{self.mark}.{member}"
        with open(output, "ab", closefd=isinstance(output, Path)) as printed:
            return subprocess.Popen(
                list(arguments),
                cwd=folder,
                env={**os.environ, **environment, MARKER: chain},
                stdin=subprocess.DEVNULL,
                stdout=printed,
                stderr=printed,
                start_new_session=True,
            )

    def end(self, process: subprocess.Popen[bytes], member: str) -> None:
        """End a member, its group, and what left the group."""
        with contextlib.suppress(OSError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        warden.end_marked(f"{self.mark}.{member}")
