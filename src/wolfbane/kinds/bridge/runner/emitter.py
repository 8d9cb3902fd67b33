"""Sends the results from a launcher's report through the channel."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Sequence

from wolfbane.formats.reported import ReportedTest
from wolfbane.kinds.worker.attached import TooLarge, evidence
from wolfbane.kinds.worker.channel import Channel, Message
from wolfbane.model import Outcome, Part

_UNTOLD = {"outcome": "failed", "message": "the report marks the test as flaky, without details"}


class ResultEmitter:
    """Reports the outcomes of tests. ``ahead`` is a test that is reported as started immediately.

    This is for a test that runs alone, if a user watches it.
    """

    def __init__(self, channel: Channel, ahead: str) -> None:
        self._channel = channel
        self._ahead = ahead if channel.prompt else ""
        if self._ahead:
            channel.send({"type": "started", "address": self._ahead})

    def parts(self, address: str, parts: Sequence[Message]) -> None:
        """Some parts of a test have ended, and more will follow."""
        self._channel.send({"type": "parts", "address": address, "parts": parts})

    def tell(
        self, address: str, account: str, entry: ReportedTest, file: str, seconds: float
    ) -> None:
        """All facts of an entry about a test, which is in ``file`` if the entry names no file."""
        self._start(address)
        if entry.output:
            self._say(address, entry.output)
        for path in entry.attachments:
            self._attach(address, path)
        finished: Message = {
            "type": "finished",
            "address": address,
            "seconds": seconds,
            "account": account,
            "message": entry.message,
            "trace": entry.detail,
            **ended(entry),
        }
        if entry.parts:
            finished["parts"] = [part_data(part) for part in entry.parts]
        if file_path := _place(entry, file):
            finished["frames"] = [
                {"file": file_path[0], "line": file_path[1], "function": entry.name}
            ]
        self._channel.send(finished)

    def meet(self, address: str, group: str) -> None:
        """A test that only the launcher knew. It can be selected in the next run.

        It has no line. If it is not in the next report, it is removed.
        """
        self._channel.hold({"type": "test", "address": address, "group": group})

    def end(self, addresses: Iterable[str], verdict: Message, output: str) -> None:
        """The same result for each of these tests, with the launcher's output."""
        for address in addresses:
            self._start(address)
            self._say(address, output)
            self._channel.send({"type": "finished", "address": address, "seconds": 0.0, **verdict})

    def _start(self, address: str) -> None:
        if address != self._ahead:
            self._channel.hold({"type": "started", "address": address})

    def _say(self, address: str, text: str) -> None:
        self._channel.hold({"type": "output", "address": address, "stream": "both", "text": text})

    def _attach(self, address: str, path: str) -> None:
        """An evidence file from the report; a file that no longer exists is ignored."""
        try:
            self._channel.hold(evidence(address, path.removeprefix("file://")))
        except TooLarge as error:
            self._say(address, f"{error}\n")
        except OSError:
            return


def ended(entry: ReportedTest) -> Message:
    """The outcome of an entry, with the earlier attempts of its launcher."""
    flaky = entry.outcome is Outcome.FLAKY
    verdict: Message = {"outcome": "passed" if flaky else str(entry.outcome)}
    if entry.earlier or flaky:
        verdict["attempts"] = [*map(_attempt, entry.earlier)] or [_UNTOLD]
    return verdict


def part_data(part: Part) -> Message:
    """A part in the form of the protocol; most parts have only an outcome."""
    data: Message = {"name": part.name, "outcome": str(part.outcome)}
    if part.message or part.seconds or part.line or part.parts:
        data.update(message=part.message, seconds=part.seconds, line=part.line)
    if part.parts:
        data["parts"] = [part_data(inner) for inner in part.parts]
    return data


def _place(entry: ReportedTest, file: str) -> tuple[str, int] | None:
    """The place of a failure: its line, or a line of the test's own file in its text."""
    if entry.line:
        return (os.path.abspath(entry.file) if entry.file else file), entry.line
    if not file or not entry.outcome.is_bad:
        return None
    named = re.escape(os.path.basename(file))
    match = re.search(
        rf"(?<![\w.-]){named}[\"']?(?::|, line |\()(\d+)", f"{entry.message}\n{entry.detail}"
    )
    if match:
        return (file, int(match[1]))
    return None


def _attempt(entry: ReportedTest) -> Message:
    return {
        "outcome": str(entry.outcome),
        "seconds": entry.seconds,
        "message": entry.message,
        "trace": entry.detail,
        "output": entry.output,
    }
