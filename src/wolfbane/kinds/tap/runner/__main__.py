"""The worker process of kind ``tap``: runs programs that print TAP, one after the other."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.formats.tap.parser import Point, TapDocument, TapReader
from wolfbane.kinds.executable.runner.attachments import part
from wolfbane.kinds.executable.runner.program_run import KEPT, ProgramRun, serve
from wolfbane.kinds.worker.channel import Channel, Message

_FAILED_AT = re.compile(
    r"#\s+Failed (?:\(TODO\) )?test(?: '(?P<name>.*?)')?(?:\s+#)?"
    r"\s+at (?P<file>\S.*?) line (?P<line>\d+)"
)


class _TapRun(ProgramRun):
    """A program whose points are read immediately."""

    def __init__(self, channel: Channel, options: Message, path: str) -> None:
        super().__init__(channel, options, path)
        self.perl_path: list[str] = options["perl_path"]
        self.reader = TapReader()
        self.errors = ""
        self.buffer = b""
        self.sent = 0

    def command(self) -> list[str]:
        return with_perl_path(super().command(), self.perl_path)

    def variables(self) -> Mapping[str, str]:
        return with_perl_libraries(os.environ, self.perl_path)

    def judged(self, code: int) -> Message:
        if self.buffer:  # the last line has no end
            self.take_output(b"\n")
        document = self.reader.finish()
        locate(document.points, self.errors)
        parts = [part(point) for point in document.points[self.sent :]]
        return {**judge(document, code), "parts": parts}

    def send_parts(self) -> None:
        """Points are sent when nothing can be added to them.

        This is up to the first failed point, whose place may be known only from standard error, and
        never the newest point.
        """
        points, start = self.reader.document.points, self.sent
        while self.sent < len(points) - 1 and points[self.sent].ok:
            self.sent += 1
        if self.sent > start:
            parts = [part(point) for point in points[start : self.sent]]
            self.channel.hold({"type": "parts", "address": self.path, "parts": parts})

    def take_output(self, data: bytes) -> None:
        self.buffer += data
        *lines, self.buffer = self.buffer.split(b"\n")
        if len(self.buffer) > KEPT:
            self.buffer = b""
        for line in lines:
            self.reader.feed(line.decode("utf-8", "replace"))

    def take_errors(self, data: bytes) -> None:
        if len(self.errors) < KEPT:
            self.errors += data.decode("utf-8", "replace")


def with_perl_path(command: list[str], paths: list[str]) -> list[str]:
    """A command that lets Perl search modules in these folders first.

    With ``-T``, Perl does not read PERL5LIB, so its own program gets them as options.
    """
    if not re.fullmatch(r"perl[\d.]*", os.path.basename(command[0])):
        return command
    return [command[0], *(f"-I{path}" for path in paths), *command[1:]]


def with_perl_libraries(variables: Mapping[str, str], paths: list[str]) -> dict[str, str]:
    """The variables of a process whose Perl programs also search modules there first."""
    if not paths:
        return dict(variables)
    before = variables.get("PERL5LIB", "")
    return {**variables, "PERL5LIB": os.pathsep.join([*paths, *([before] if before else [])])}


def locate(points: list[Point], errors: str) -> None:
    """Add the line and the message of the program's error output to failed points."""
    places = list(_FAILED_AT.finditer(errors))
    ends = [*(match.start() for match in places[1:]), len(errors)]
    answers = dict(zip(places, ends, strict=False))
    for point in points:
        match = next((m for m in answers if not point.ok and (m["name"] or "") == point.name), None)
        if match is not None:
            message = errors[match.end() : answers.pop(match)].strip(".\n")
            point.diagnostics += [line for line in message.splitlines() if line.startswith("#  ")]
            if not point.line:
                point.file, point.line = match["file"], int(match["line"])


def judge(document: TapDocument, code: int) -> Message:
    """The outcome of the whole program."""
    failed = [point for point in document.points if point.outcome == "failed"]
    problems = list(document.problems)
    if code < 0:
        name = how_it_ended(code)
        return {"outcome": "crashed", "message": f"the program was killed by {name}"}
    if document.bail_out is not None:
        return {"outcome": "errored", "message": f"Bail out! {document.bail_out}".strip()}
    if not document.seen_any:
        problems.append(f"the program printed no TAP (exit code {code})")
    elif document.planned == 0 and document.skip_reason is not None and not failed and not code:
        return {"outcome": "skipped", "message": document.skip_reason}
    if code and not failed:
        problems.append(f"exit code {code}, although no point failed")
    if failed:
        message = "\n".join([f"{len(failed)} of {len(document.points)} points failed", *problems])
        placed = next((point for point in failed if point.line), None)
        if placed:
            frames = [frame(placed)]
        else:
            frames = []
        return {"outcome": "failed", "message": message, "frames": frames}
    if problems:
        return {"outcome": "errored", "message": "\n".join(problems)}
    return {"outcome": "passed"}


def frame(point: Point) -> Message:
    """The place of a failed point, as the only frame of its test."""
    return {"file": os.path.abspath(point.file), "line": point.line, "function": point.name}


if __name__ == "__main__":
    serve("TAP", _TapRun)
