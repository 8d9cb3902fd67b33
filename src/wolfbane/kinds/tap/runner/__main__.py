"""The worker for suites of kind ``tap``: runs programs that print TAP, one after the other.

Runs under Wolfbane's own interpreter.
"""

from __future__ import annotations

import os
import re
import selectors
import shlex
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Mapping
from typing import IO, Any

from wolfbane.formats.tap.parser import Document, Point, Reader
from wolfbane.kinds.worker.channel import Channel, Message, connect

KEPT = 1 << 20
FLOOD = 100 << 20
SEND_EVERY = 0.02
_FAILED_AT = re.compile(
    r"#\s+Failed (?:\(TODO\) )?test(?: '(?P<name>.*?)')?(?:\s+#)?"
    r"\s+at (?P<file>\S.*?) line (?P<line>\d+)"
)


def main() -> None:
    """Serve requests until Wolfbane closes the channel."""
    channel, options, requests = connect(f"TAP, by Python {sys.version.split()[0]}")
    for request in requests:
        if request["type"] == "collect":
            for path in request["files"]:
                channel.send({"type": "collecting", "file": path})
                channel.hold({"type": "test", "address": path})
                channel.send({"type": "collected", "file": path, "divisible": False})
        elif request["type"] == "run":
            _Program(channel, options, request["file"]).run()
            channel.send({"type": "ran", "file": request["file"]})


class _Program:
    def __init__(self, channel: Channel, options: Message, path: str) -> None:
        self.channel, self.path = channel, path
        file = os.path.join(options["root"], path)
        inside = os.path.relpath(file)
        self.file = file if inside.startswith("..") else inside
        self.interpreters: dict[str, list[str]] = options["interpreters"]
        self.defaults: dict[str, str] = options["defaults"]
        self.perl_path: list[str] = options["perl_path"]
        self.reader = Reader()
        self.errors = ""
        self.printed = 0
        self.buffer = b""
        self.unsent: list[str] = []
        self.told = 0
        self.last_sent = 0.0

    def run(self) -> None:
        self.channel.send({"type": "started", "address": self.path})
        began = time.perf_counter()
        try:
            command = command_line(self.file, self.interpreters, self.defaults)
            process = subprocess.Popen(
                with_perl_path(command, self.perl_path), stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                env=with_perl_libraries(os.environ, self.perl_path),
            )  # fmt: skip
        except OSError as error:
            verdict: Message = {"outcome": "blocked", "message": f"it cannot be started: {error}"}
        else:
            flooded = self.follow(process)
            self.send_news()
            document = self.reader.finish()
            locate(document.points, self.errors)
            verdict = judge(document, process.returncode)
            if flooded:
                verdict = {"outcome": "errored", "message": f"it printed over {FLOOD >> 20} MiB"}
            verdict["parts"] = [part(point) for point in document.points[self.told :]]
        seconds = round(time.perf_counter() - began, 6)
        finished = {"type": "finished", "address": self.path, "seconds": seconds}
        self.channel.send({**finished, **verdict})

    def follow(self, process: subprocess.Popen[bytes]) -> bool:
        """Read both streams as they come, until the program has ended; True after a flood."""
        with selectors.DefaultSelector() as selector:
            assert process.stdout is not None and process.stderr is not None
            selector.register(process.stdout, selectors.EVENT_READ, self.take_tap)
            selector.register(process.stderr, selectors.EVENT_READ, self.take_errors)
            while selector.get_map() and self.printed <= FLOOD:
                ready = selector.select(0.05)
                if not ready:
                    self.send_news()
                    if process.poll() is not None:
                        break  # a child it left behind may hold the streams open for ever
                for key, _ in sorted(ready, key=lambda item: item[0].data != self.take_tap):
                    stream: Any = key.fileobj
                    if not self.read(stream, key.data):
                        selector.unregister(stream)
        if self.printed > FLOOD:
            process.kill()
        if self.buffer:
            self.take_tap(b"\n")
        process.wait()
        process.stdout.close()
        process.stderr.close()
        return self.printed > FLOOD

    def read(self, stream: IO[bytes], take: Any) -> bool:
        data = os.read(stream.fileno(), 1 << 16)
        self.printed += len(data)
        if data:
            take(data)
            if self.printed <= KEPT:
                self.unsent.append(data.decode("utf-8", "replace"))
            if time.monotonic() - self.last_sent > SEND_EVERY:
                self.send_news()
        return bool(data)

    def send_news(self) -> None:
        """Send what came since the last time, so that a program that hangs is not mute.

        Points are sent once nothing can be added to them: up to the first that failed, whose
        place may only be known from the error stream, and never the newest.
        """
        points, start = self.reader.document.points, self.told
        while self.told < len(points) - 1 and points[self.told].ok:
            self.told += 1
        if self.told > start:
            parts = [part(point) for point in points[start : self.told]]
            self.channel.hold({"type": "parts", "address": self.path, "parts": parts})
        if self.unsent:
            message = {"type": "output", "address": self.path, "stream": "both"}
            self.channel.send({**message, "text": "".join(self.unsent)})
        self.unsent = []
        self.last_sent = time.monotonic()

    def take_tap(self, data: bytes) -> None:
        self.buffer += data
        *lines, self.buffer = self.buffer.split(b"\n")
        if len(self.buffer) > KEPT:
            self.buffer = b""
        for line in lines:
            self.reader.feed(line.decode("utf-8", "replace"))

    def take_errors(self, data: bytes) -> None:
        if len(self.errors) < KEPT:
            self.errors += data.decode("utf-8", "replace")


def command_line(
    file: str, interpreters: dict[str, list[str]], defaults: dict[str, str]
) -> list[str]:
    """How to start a program: the suite's map, its ``#!`` line, its ending, or by itself."""
    suffix = os.path.splitext(file)[1]
    with open(file, "rb") as source:
        first = source.readline(512)
    shebang = shlex.split(first[2:].decode("utf-8", "replace")) if first[:2] == b"#!" else []
    if shebang and os.path.basename(shebang[0]) == "env":
        shebang = [word for word in shebang[1:] if word != "-S"]
    name = os.path.basename(shebang[0]) if shebang else ""
    mapped = interpreters.get(suffix)
    if mapped:
        same = name and os.path.basename(mapped[0]) == name
        return [*mapped, *(shebang[1:] if same else []), file]
    if shebang:
        found = shebang[0] if os.path.exists(shebang[0]) else shutil.which(name)
        if not found:
            raise OSError(f"its interpreter '{shebang[0]}' is not here")
        return [found, *shebang[1:], file]
    compiled = first.startswith(b"\x7fELF")
    if compiled or suffix not in defaults:
        return [os.path.abspath(file)]
    return [defaults[suffix], file]


def with_perl_path(command: list[str], paths: list[str]) -> list[str]:
    """A command that has Perl look for modules in these folders first.

    Under ``-T`` Perl does not read PERL5LIB, so its own program gets them as options.
    """
    if not re.fullmatch(r"perl[\d.]*", os.path.basename(command[0])):
        return command
    return [command[0], *(f"-I{path}" for path in paths), *command[1:]]


def with_perl_libraries(variables: Mapping[str, str], paths: list[str]) -> dict[str, str]:
    """The variables of a process whose Perl programs, too, look for modules there first."""
    if not paths:
        return dict(variables)
    before = variables.get("PERL5LIB", "")
    return {**variables, "PERL5LIB": os.pathsep.join([*paths, *([before] if before else [])])}


def locate(points: list[Point], errors: str) -> None:
    """Give failed points the line and the words that the program had for them as errors."""
    said = list(_FAILED_AT.finditer(errors))
    ends = [*(match.start() for match in said[1:]), len(errors)]
    told = dict(zip(said, ends, strict=False))
    for point in points:
        match = next((m for m in told if not point.ok and (m["name"] or "") == point.name), None)
        if match is not None:
            words = errors[match.end() : told.pop(match)].strip(".\n")
            point.diagnostics += [line for line in words.splitlines() if line.startswith("#  ")]
            if not point.line:
                point.file, point.line = match["file"], int(match["line"])


def judge(document: Document, code: int) -> Message:
    """The outcome of the whole program."""
    failed = [point for point in document.points if point.outcome == "failed"]
    problems = list(document.problems)
    if code < 0:
        name = signal.Signals(-code).name
        return {"outcome": "crashed", "message": f"the program was ended by {name}"}
    if document.bail_out is not None:
        return {"outcome": "errored", "message": f"Bail out! {document.bail_out}".strip()}
    if not document.seen_any:
        problems.append(f"no TAP came (exit code {code})")
    elif document.planned == 0 and document.skip_reason is not None and not failed and not code:
        return {"outcome": "skipped", "message": document.skip_reason}
    if code and not failed:
        problems.append(f"exit code {code}, though no point failed")
    if failed:
        said = "\n".join([f"{len(failed)} of {len(document.points)} points failed", *problems])
        placed = next((point for point in failed if point.line), None)
        frames = [frame(placed)] if placed else []
        return {"outcome": "failed", "message": said, "frames": frames}
    if problems:
        return {"outcome": "errored", "message": "\n".join(problems)}
    return {"outcome": "passed"}


def frame(point: Point) -> Message:
    """Where a failed point is, as the one frame of its test."""
    return {"file": os.path.abspath(point.file), "line": point.line, "function": point.name}


def part(point: Point) -> Message:
    """A point as the part of its test."""
    message: Message = {"name": point.name or f"point {point.number}", "outcome": point.outcome}
    text = "\n".join([point.reason, *point.diagnostics] if point.reason else point.diagnostics)
    if text and (point.outcome != "passed" or point.directive):
        message["message"] = text
    if point.line:
        message.update(file=os.path.abspath(point.file), line=point.line)
    if point.points:
        message["parts"] = [part(inner) for inner in point.points]
    return message


if __name__ == "__main__":
    main()
