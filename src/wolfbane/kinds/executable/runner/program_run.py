"""The worker for suites of executable files: starts a file, reads its output, and reports the
result.

Runs in Wolfbane's own interpreter.
"""

from __future__ import annotations

import os
import selectors
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import IO, Any

from wolfbane.kinds.executable.runner.attachments import Attachments
from wolfbane.kinds.worker.channel import Channel, Message, connect

KEPT = 1 << 20
"""Maximum number of bytes of a program's output that are kept."""
FLOOD = 100 << 20
"""Bytes after which a program that prints without end is stopped."""
SEND_EVERY = 0.02
"""Seconds between two messages about a program's output."""
GATHER = 0.002
"""Seconds during which output may be collected: many programs write each line separately, and
waking up for each line costs the program more time than printing it.
"""
MUCH = 1 << 14
"""Bytes after which output is no longer collected: a program that prints this much would wait."""
STEADY = 50
"""Number of times that only standard output arrived, without a pause, before it is collected:
output on both streams keeps its order.
"""


class ProgramRun:
    """One running program.

    Its output is sent immediately, so that the output of a hanging program is visible.
    """

    attachments: Attachments
    """The files that it attaches; it has a folder for them while it runs."""

    def __init__(self, channel: Channel, options: Message, path: str) -> None:
        self.channel, self.options, self.path = channel, options, path
        file = os.path.join(options["root"], path)
        inside = os.path.relpath(file)
        self.file = file if inside.startswith("..") else inside
        self.live: bool = options.get("live", False)
        self.printed = 0
        self.alone = 0
        self.unsent: list[str] = []
        self.last_sent = 0.0

    def run(self) -> None:
        """Run the program to its end, and send its result."""
        with tempfile.TemporaryDirectory(prefix="attach-") as folder:
            self.attachments = Attachments(folder)
            self._run()

    def _run(self) -> None:
        self.channel.send({"type": "started", "address": self.path})
        began = time.perf_counter()
        try:
            process = subprocess.Popen(
                self.command(),
                stdin=None if self.live else subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                env={**self.variables(), **self.attachments.variables},
            )
        except OSError as error:
            verdict: Message = {
                "outcome": "blocked",
                "message": f"the program cannot be started: {error}",
            }
        else:
            self.follow(process)
            self.send_news()
            verdict = self.judged(process.returncode)
            for message in self.attachments.messages(self.path):
                self.channel.hold(message)
            if self.printed > FLOOD:
                verdict["outcome"] = "errored"
                verdict["message"] = f"the program printed more than {FLOOD >> 20} MiB"
        seconds = round(time.perf_counter() - began, 6)
        finished = {"type": "finished", "address": self.path, "seconds": seconds}
        self.channel.send({**finished, **verdict})

    def judged(self, code: int) -> Message:
        """The outcome, by the exit code and the output; a negative code is a signal."""
        raise NotImplementedError

    def command(self) -> list[str]:
        """The command that starts the program. Raises OSError if its interpreter is missing."""
        maps = self.options["interpreters"], self.options["defaults"]
        start = command_line(self.file, *maps, self.python)
        return [*start, *self.options.get("arguments", ())]

    def python(self) -> str:
        """The project's own Python. Raises OSError if it does not start."""
        from wolfbane.kinds.contract import MissingRuntime
        from wolfbane.kinds.python.interpreters import default_interpreter

        try:
            return default_interpreter(Path(self.options["root"]), self.options["python_of"])
        except MissingRuntime as error:
            raise OSError(str(error)) from None

    def variables(self) -> Mapping[str, str]:
        """The program's environment variables."""
        return os.environ

    def take_output(self, data: bytes) -> None:
        """The standard output."""

    def take_errors(self, data: bytes) -> None:
        """The standard error."""

    def send_parts(self) -> None:
        """Send the parts that are known so far."""

    def follow(self, process: subprocess.Popen[bytes]) -> None:
        """Read both streams until the program has ended or prints too much."""
        with selectors.DefaultSelector() as selector:
            assert process.stdout is not None and process.stderr is not None
            selector.register(process.stdout, selectors.EVENT_READ, self.take_output)
            selector.register(process.stderr, selectors.EVENT_READ, self.take_errors)
            while selector.get_map() and self.printed <= FLOOD:
                ready, before = selector.select(0.05), self.printed
                if not ready:
                    self.send_news()
                    if process.poll() is not None:
                        break  # a child that still runs may keep the streams open
                for key, _ in sorted(ready, key=lambda item: item[0].data != self.take_output):
                    stream: Any = key.fileobj
                    if not self.read(stream, key.data):
                        selector.unregister(stream)
                alone = [key.data for key, _ in ready] == [self.take_output]
                self.alone = self.alone + 1 if alone else 0
                if self.alone > STEADY and self.printed - before < MUCH:
                    time.sleep(GATHER)
        if self.printed > FLOOD:
            process.kill()
        process.wait()
        process.stdout.close()
        process.stderr.close()

    def read(self, stream: IO[bytes], take: Any) -> bool:
        """Read the available data of a stream; returns whether more may be available."""
        data = os.read(stream.fileno(), 1 << 16)
        self.printed += len(data)
        if data:
            take(data)
            if self.live:
                os.write(1, data)  # to the terminal, from which it comes into the record
            elif self.printed <= KEPT:
                self.unsent.append(data.decode("utf-8", "replace"))
            if time.monotonic() - self.last_sent > SEND_EVERY:
                self.send_news()
        return bool(data)

    def send_news(self) -> None:
        """Send the output since the last time."""
        self.send_parts()
        if self.unsent:
            message = {"type": "output", "address": self.path, "stream": "both"}
            self.channel.send({**message, "text": "".join(self.unsent)})
        self.unsent = []
        self.last_sent = time.monotonic()


def serve(what: str, run_type: type[ProgramRun]) -> None:
    """Serve requests until Wolfbane closes the channel. Each file is one test."""
    channel, options, requests = connect(f"{what}, by Python {sys.version.split()[0]}")
    tempfile.tempdir = os.path.dirname(options["capture"])  # it goes with the run, even if killed
    for request in requests:
        if request["type"] == "collect":
            for path in request["files"]:
                channel.send({"type": "collecting", "file": path})
                channel.hold({"type": "test", "address": path})
                channel.send({"type": "collected", "file": path, "divisible": False})
        elif request["type"] == "run":
            run_type(channel, options, request["file"]).run()
            channel.send({"type": "ran", "file": request["file"]})


def command_line(
    file: str,
    interpreters: dict[str, list[str]],
    defaults: dict[str, str],
    python: Callable[[], str],
) -> list[str]:
    """The command that starts a program: by the suite's map, its ``#!`` line, its extension, or
    directly. ``python`` finds the interpreter of Python files.
    """
    suffix = os.path.splitext(file)[1]
    with open(file, "rb") as source:
        first = source.readline(512)
    shebang = shlex.split(first[2:].decode("utf-8", "replace")) if first[:2] == b"#!" else []
    if shebang and os.path.basename(shebang[0]) == "env":
        shebang = [word for word in shebang[1:] if word != "-S"]
    name = ""
    if shebang:
        name = os.path.basename(shebang[0])
    mapped = interpreters.get(suffix)
    if mapped:
        same = name and os.path.basename(mapped[0]) == name
        return [*mapped, *(shebang[1:] if same else []), file]
    if shebang:
        program = shebang[0] if os.path.exists(shebang[0]) else shutil.which(name)
        if not program:
            raise OSError(f"interpreter '{shebang[0]}' not found")
        return [program, *shebang[1:], file]
    if suffix == ".py":
        return [python(), file]
    compiled = first.startswith(b"\x7fELF")
    if compiled or suffix not in defaults:
        return [os.path.abspath(file)]
    return [defaults[suffix], file]
