"""Read what a compiled test program prints while it runs its tests one at a time, uncaptured.

The form is that of the language's own test harness: ``test NAME ... `` when a test begins,
``ok``, ``FAILED`` or ``ignored`` when it ends, and whatever the test prints in between.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

_STATUS = re.compile(r"(?:^|(?<=.))(ok|FAILED|ignored(?:, (?P<why>[^\n]*))?)\s*\Z", re.S)
_SUMMARY = re.compile(r"\n\n(?:failures:|successes:|test result: )")
_AGAIN = re.compile(r"\nrunning \d+ tests?\n")
_DETAIL = re.compile(
    r"^---- (?P<name>.+?) stdout ----\n(?P<text>.*?)(?=^---- .+? stdout ----\n|^failures:\n|\Z)",
    re.M | re.S,
)
_PANIC = re.compile(
    r"\n?thread '(?P<thread>.*?)'(?: \(\d+\))? panicked at "
    r"(?:'(?P<old>.*?)', (?P<oldplace>[^\n']+?:\d+:\d+)(?=\n|\Z)"
    r"|(?P<place>[^\n]+?:\d+:\d+):\n(?P<new>.*?)"
    r"(?=\nnote: |\nstack backtrace:|\nthread '|\n?\Z))"
    r"(?P<rest>(?:\nstack backtrace:\n(?:\s+(?:\d+:|at )[^\n]*\n?)*)?"
    r"(?:\n?note: [^\n]*\n?)?)",
    re.S,
)
_BACKTRACE = re.compile(
    r"^\s+\d+: (?P<function>.+)\n\s+at (?P<place>\S+?):(?P<line>\d+)(?::\d+)?$", re.M
)
_COMPARED = re.compile(r"assertion `.*?` failed.*?\n  left: [^\n]*\n right: [^\n]*", re.S)
_ERROR = re.compile(r"^Error: (?P<text>.*?)(?=\nthread '|\s*\Z)", re.M | re.S)
_RETURNED = "the test returned a termination value"  # older toolchains say it by a panic
_RUNTIME_PANICS = (
    "called `", "attempt to ", "index out of bounds", "already ",
    "not yet implemented", "not implemented", "explicit panic", "range ", "slice index ",
    "byte index ", "divisor", "capacity overflow", "internal error",
)  # fmt: skip


@dataclass
class Ended:
    """A test that ended: its status word, what was printed, and how it was announced."""

    name: str
    status: str
    text: str
    note: str
    reason: str = ""


@dataclass
class Reader:
    """Feed it text as it comes; it calls back when tests begin and end."""

    names: Iterable[str]
    began: Callable[[str], None]
    ended: Callable[[Ended], None]
    current: str = ""
    details: dict[str, str] = field(default_factory=dict)
    _buffer: str = ""
    _note: str = ""
    _over: bool = False

    def __post_init__(self) -> None:
        self._waiting = set(self.names)

    def feed(self, text: str) -> None:
        """Take in more of what was printed."""
        self._buffer += text
        if self._over and (again := _AGAIN.search(self._buffer)):
            self._take_details(self._buffer[: again.start()])
            self._buffer, self._over = self._buffer[again.start() :], False
        while not self._over and (marker := self._next_marker()) is not None:
            self._close(self._buffer[: marker.start()])
            self.current, self._note = marker["name"], marker["note"] or ""
            self._waiting.discard(self.current)
            self._buffer = self._buffer[marker.end() :]
            self.began(self.current)
        summary = _SUMMARY.search(self._buffer)
        if summary and not self._over and self._close(self._buffer[: summary.start()]):
            self._over = True
            self._buffer = self._buffer[summary.start() :]

    def finish(self) -> str:
        """At the end: what the test that was still running had printed, if one was."""
        if not self._over and self.current and self._close(self._buffer):
            self._buffer = ""
        if self._over:
            self._take_details(self._buffer)
        return self._buffer if self.current else ""

    def _take_details(self, text: str) -> None:
        for match in _DETAIL.finditer(text):
            self.details[match["name"]] = match["text"].strip("\n")

    def _next_marker(self) -> re.Match[str] | None:
        for match in re.finditer(
            r"^test (?P<name>.+?)(?: - (?P<note>should panic|compile fail|compile))? \.\.\. ",
            self._buffer,
            re.M,
        ):
            if match["name"] in self._waiting:
                return match
        return None

    def _close(self, segment: str) -> bool:
        """The end of the current test, if the text up to here says so."""
        if not self.current:
            return True
        match = _STATUS.search(segment)
        if match is None:
            return False
        text = segment[: match.start(1)].removeprefix("\n")
        status = match[1].partition(",")[0]
        self.ended(Ended(self.current, status, text, self._note, match["why"] or ""))
        self.current = ""
        return True


def verdict(test: Ended) -> dict[str, Any]:
    """Outcome, message, output and frames (files as they were printed) of a test."""
    if test.status == "ok":
        return {"outcome": "passed", "output": test.text}
    if test.status == "ignored":
        return {"outcome": "skipped", "message": test.reason}
    return failure(test.text, test.name, should_panic=test.note == "should panic")


def failure(text: str, name: str, *, should_panic: bool = False) -> dict[str, Any]:
    """What a failed test says of itself."""
    panics = [m for m in _PANIC.finditer(text) if _RETURNED not in (m["old"] or "")]
    own = [panic for panic in panics if panic["thread"] in (name, "main")]
    if not panics:
        if should_panic:
            return {"outcome": "failed", "message": "it did not panic, though it should"}
        error = _ERROR.search(text)
        said = f"it returned an error: {error['text']}" if error else "it failed"
        printed = text[: error.start()] if error else text
        return {"outcome": "errored", "message": said, "output": printed}
    panic = (own or panics)[-1]
    message = (panic["old"] or panic["new"] or "").strip("\n")
    compared = _COMPARED.match(message)
    after = message[compared.end() :] if compared else ""  # printed late: it was still buffered
    message = message[: len(message) - len(after)]
    place = panic["place"] or panic["oldplace"]
    file, line = place.rsplit(":", 2)[:2]
    frames = [{"file": file, "line": int(line), "function": name}]
    called = [
        {"file": m["place"], "line": int(m["line"]), "function": m["function"]}
        for m in _BACKTRACE.finditer(panic["rest"])
        if not m["place"].startswith("/rustc/") and "{{closure}}" not in m["function"]
    ]
    outcome = "errored" if message.startswith(_RUNTIME_PANICS) else "failed"
    if should_panic:
        outcome, message = "failed", f"it panicked with another message: {message}"
    output = text[: panic.start()] + after.removeprefix("\n") + text[panic.end() :]
    return {
        "outcome": outcome, "message": message, "output": output, "frames": called[::-1] or frames
    }  # fmt: skip
