"""The files that a program attaches: it writes them to a folder that a variable names."""

from __future__ import annotations

import os
from collections.abc import Iterator

from wolfbane.formats.tap.parser import Point
from wolfbane.kinds.worker.attached import TooLarge, evidence
from wolfbane.kinds.worker.channel import Message

VARIABLE = "WOLFBANE_ATTACH"
PARTS = "parts.tap"
"""TAP in this file names the parts of the test; it is not attached."""
_MOST = 100
"""The number of files that are attached."""


class Attachments:
    """The folder of one test."""

    def __init__(self, folder: str) -> None:
        self._folder = folder

    @property
    def variables(self) -> dict[str, str]:
        """The variable for the program."""
        return {VARIABLE: self._folder}

    def messages(self, address: str) -> Iterator[Message]:
        """The files, by name. A file that is not kept is named in the output."""
        files = sorted(self._files())
        for path in files[:_MOST]:
            name = os.path.relpath(path, self._folder)
            try:
                yield evidence(address, path, name)
            except TooLarge as error:
                yield _output(address, str(error))
            except OSError as error:
                yield _output(address, f"{name}: cannot read the file: {error.strerror}")
        if len(files) > _MOST:
            yield _output(address, f"{len(files) - _MOST} more files were not kept")

    def parts(self) -> str:
        """The text of the file with the parts; empty if there is none."""
        path = os.path.join(self._folder, PARTS)
        if not os.path.isfile(path):  # a pipe would never end
            return ""
        try:
            with open(path, encoding="utf-8", errors="replace") as file:
                return file.read()
        except OSError:
            return ""

    def _files(self) -> Iterator[str]:
        for folder, _, names in os.walk(self._folder):
            for name in names:
                path = os.path.join(folder, name)
                if os.path.isfile(path) and not os.path.islink(path) and name != PARTS:
                    yield path


def _output(address: str, text: str) -> Message:
    return {"type": "output", "address": address, "stream": "both", "text": f"{text}\n"}


def part(point: Point) -> Message:
    """A point as a part of its test."""
    message: Message = {"name": point.name or f"point {point.number}", "outcome": point.outcome}
    text = "\n".join([point.reason, *point.diagnostics] if point.reason else point.diagnostics)
    if text and (point.outcome != "passed" or point.directive):
        message["message"] = text
    if point.line:
        message.update(file=os.path.abspath(point.file), line=point.line)
    if point.points:
        message["parts"] = [part(inner) for inner in point.points]
    return message
