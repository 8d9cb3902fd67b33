"""Runs programs one after the other. The exit code is the outcome.

Build tools have long used these codes for tests: 0 is success, 77 means that the test was skipped,
and 99 that something failed before the test could decide.
"""

from __future__ import annotations

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.formats.tap.parser import TapReader
from wolfbane.kinds.executable.runner.attachments import part
from wolfbane.kinds.executable.runner.program_run import KEPT, ProgramRun, serve
from wolfbane.kinds.worker.channel import Channel, Message

SKIPPED = 77
ERRORED = 99
MESSAGE_LINES = 20
"""The number of last output lines that form the message of a failure."""


class _Run(ProgramRun):
    """A program whose last lines give the reason of a failure or skip."""

    def __init__(self, channel: Channel, options: Message, path: str) -> None:
        super().__init__(channel, options, path)
        self.output, self.errors = b"", b""

    def take_output(self, data: bytes) -> None:
        self.output = (self.output + data)[-KEPT:]

    def take_errors(self, data: bytes) -> None:
        self.errors = (self.errors + data)[-KEPT:]

    def judged(self, code: int) -> Message:
        reader = TapReader()
        for line in self.attachments.parts().splitlines():
            reader.feed(line)
        points = reader.finish().points
        verdict = self._by_exit_code(code)
        failed = [point.name or str(point.number) for point in points if point.outcome == "failed"]
        if failed and verdict["outcome"] == "passed":
            message = f"these parts failed, but the exit code is 0: {', '.join(failed)}"
            verdict = {"outcome": "errored", "message": message}
        return {**verdict, "parts": [part(point) for point in points]}

    def _by_exit_code(self, code: int) -> Message:
        if code == 0:
            return {"outcome": "passed"}
        if code < 0:
            name = how_it_ended(code)
            return {"outcome": "crashed", "message": f"the program was killed by {name}"}
        message = _last_lines(self.errors) or _last_lines(self.output)
        if code == SKIPPED:
            return {"outcome": "skipped", "message": message}
        outcome = "failed"
        if code == ERRORED:
            outcome = "errored"
        return {"outcome": outcome, "message": f"exit code {code}\n{message}".strip()}


def _last_lines(data: bytes) -> str:
    lines = data.decode("utf-8", "replace").rstrip().splitlines()
    return "\n".join(lines[-MESSAGE_LINES:])


if __name__ == "__main__":
    serve("programs", _Run)
