"""A launcher that keeps running and reads one request per line from standard input."""

from __future__ import annotations

import contextlib
import json
import os
import re
import selectors
import shlex
import subprocess
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Self

from wolfbane.kinds.bridge.runner.launching import (
    KEPT,
    TICK,
    Hear,
    LauncherEnd,
    end_group,
    found_program,
)
from wolfbane.kinds.bridge.runner.start_limit import StartLimit

_LEAVING = 1.0
"""Seconds that a launcher has to end after its input was closed."""


@dataclass(frozen=True)
class Start:
    """A command, and the file of its standard input; for a launcher that keeps running, also the
    request line.
    """

    command: Sequence[str]
    request: str = ""
    given: str = os.devnull


def request_line(arguments: Sequence[str], serve: Mapping[str, Any]) -> str:
    """The arguments of a request on one line, without a line end."""
    if serve["format"] == "words":
        return shlex.join(arguments)
    return json.dumps(arguments)


class PersistentLauncher:
    """One process for many starts.

    A new process is started if the old one has ended or was stopped.

    ``done`` matches the line that ends a response. As a context manager, it ends the process.
    """

    def __init__(self, done: str, variables: Mapping[str, str]) -> None:
        self._done = re.compile(done)
        self._variables = variables
        self._command: Sequence[str] = ()
        self._process: subprocess.Popen[bytes] | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._leave()

    def ask(self, start: Start, limit: StartLimit, hear: Hear, *, apart: bool) -> LauncherEnd:
        """Send a request, and read its response. Raises OSError if nothing can be started.

        If a response takes too long, the process is killed. The exit code comes from the line that
        ended the response, or from the process if it ended.
        """
        process = self._running(start.command, apart=apart)
        answer = _Replies(self._done, hear)
        # For one that does not read.
        timer = threading.Timer(limit.total, end_group, [process])
        timer.start()
        with contextlib.suppress(BrokenPipeError):  # it has ended: its exit code says more
            assert process.stdin
            process.stdin.write(f"{start.request}\n".encode())
            process.stdin.flush()
        timer.cancel()
        late = not answer.follow(process, limit)
        code, has_code = answer.code or 0, answer.code is not None
        if late or not answer.is_done:
            end_group(process)
            code, has_code = process.wait(), True
            self._close()
        kept, errors = answer.text(answer.kept), answer.text(answer.errors)
        return LauncherEnd(code=code, late=late, output=kept, errors=errors, has_code=has_code)

    def _running(self, command: Sequence[str], *, apart: bool) -> subprocess.Popen[bytes]:
        if self._process and (self._process.poll() is not None or self._command != command):
            self._leave()
        if self._process is None:
            self._command = command
            self._process = subprocess.Popen(
                [found_program(command[0], ""), *command[1:]],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE if apart else subprocess.STDOUT,
                env={**os.environ, **self._variables},
                start_new_session=True,
            )
        return self._process

    def _leave(self) -> None:
        """Let the process end by itself, or end it."""
        if process := self._process:
            with contextlib.suppress(BrokenPipeError):
                assert process.stdin
                process.stdin.close()
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(_LEAVING)
            end_group(process)
            process.wait()
            self._close()

    def _close(self) -> None:
        assert self._process
        for stream in (self._process.stdin, self._process.stdout, self._process.stderr):
            with contextlib.suppress(BrokenPipeError):
                if stream:
                    stream.close()
        self._process = None


class _Replies:
    """Reads a launcher's output for one request, and keeps the last part."""

    def __init__(self, done: re.Pattern[str], hear: Hear) -> None:
        self.kept, self.errors = b"", b""
        self.is_done = False
        self.code: int | None = None
        self._pattern, self._hear = done, hear
        self._rest = b""

    def follow(self, process: subprocess.Popen[bytes], limit: StartLimit) -> bool:
        """Read until the response is complete or the process has closed its output; False after the
        limit.
        """
        with selectors.DefaultSelector() as selector:
            for stream in filter(None, (process.stdout, process.stderr)):
                selector.register(stream, selectors.EVENT_READ)
            while selector.get_map() and not self.is_done:
                ready = selector.select(TICK)
                if not ready and process.poll() is not None:
                    break  # a child may hold the streams open for ever
                if limit.is_over:
                    return False
                for key, _ in ready:
                    data = os.read(key.fd, 1 << 16)
                    if not data:
                        selector.unregister(key.fileobj)
                    elif key.fileobj is process.stdout:
                        self._take(data)
                    else:
                        self.kept = (self.kept + data)[-KEPT:]
                        self.errors = (self.errors + data)[-KEPT:]
        if self._rest and not self.is_done:
            self._say(self._rest)
        return True

    def _take(self, data: bytes) -> None:
        """Complete lines are processed; the matching line ends the response."""
        *lines, self._rest = (self._rest + data).split(b"\n")
        for line in lines:
            match = self._pattern.search(self.text(line).rstrip("\r"))
            if match is None:
                self._say(line + b"\n")
                continue
            self.is_done, self._rest = True, b""
            code = match.groupdict().get("code")
            self.code = int(code) if code and code.lstrip("-").isdecimal() else None
            return

    def _say(self, data: bytes) -> None:
        self.kept = (self.kept + data)[-KEPT:]
        self._hear(data)

    @staticmethod
    def text(data: bytes) -> str:
        """The output as text."""
        return data.decode("utf-8", "replace")
