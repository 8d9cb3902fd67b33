"""Parses the output of a compiled test program that runs its tests one at a time without capture.

The format is that of the language's own test harness: ``test NAME ... `` when a test starts,
``ok``, ``FAILED`` or ``ignored`` when it ends, and the test's output in between.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

_STATUS = re.compile(r"(?:^|(?<=.))(ok|FAILED|ignored(?:, (?P<why>[^\n]*))?)\s*\Z", re.S)
_LONGEST_STATUS = 1 << 12
"""Characters that contain a status word and the reason after it."""
_MARKER = re.compile(
    r"^test (?P<name>.+?)(?: - (?P<note>should panic|compile fail|compile))? \.\.\. "
    r"|\n(?P<summary>\n(?:failures:|successes:|test result: ))",
    re.M,
)
_ROOM = 64
"""Characters of a marker in addition to its name."""
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
    "called `",
    "attempt to ",
    "index out of bounds",
    "already ",
    "not yet implemented",
    "not implemented",
    "explicit panic",
    "range ",
    "slice index ",
    "byte index ",
    "divisor",
    "capacity overflow",
    "internal error",
)


@dataclass
class TestEnding:
    """A test that ended: its status word, its output, and its announcement."""

    name: str
    status: str
    text: str
    note: str
    reason: str = ""


class LibtestReader:
    """Parses output as it arrives. Calls back when tests start and end.

    Text that was searched once is not searched again, because a test may print without end. So the
    text of the running test is kept in pieces, and only its end, in which a marker may have
    started, is searched. The first character there was handled before: it shows whether a line
    starts.
    """

    def __init__(
        self,
        names: Iterable[str],
        began: Callable[[str], None],
        ended: Callable[[TestEnding], None],
    ) -> None:
        self.current = ""
        self.details: dict[str, str] = {}
        self._began, self._ended = began, ended
        self._waiting = set(names)
        self._longest = max(map(len, self._waiting), default=0) + _ROOM
        self._kept: list[str] = []
        self._rest = "\n"
        self._note = ""
        self._over = False

    def feed(self, text: str) -> None:
        """Process more of the output."""
        self._rest += text
        while self._take_again() if self._over else self._take_marker():
            pass
        if (cut := len(self._rest) - self._longest) > 1:
            self._kept.append(self._rest[1:cut])
            self._rest = self._rest[cut - 1 :]

    def finish(self) -> str:
        """At the end: the output of the test that was still running, if any."""
        text = self._text(len(self._rest))
        if not self._over and self.current and self._close(text):
            text = ""
        if self._over:
            self._take_details(text)
        if self.current:
            return text
        return ""

    def _text(self, end: int) -> str:
        return "".join([*self._kept, self._rest[1:end]])

    def _go_on(self, after: int) -> None:
        self._kept, self._rest = [], self._rest[after - 1 :]

    def _take_marker(self) -> bool:
        """Handle the next start of a test, or the summary; returns whether there was one."""
        for marker in _MARKER.finditer(self._rest, 1):
            if marker["summary"]:
                if self._close(self._text(marker.start())):
                    self._over = True
                    self._go_on(marker.start())
                    return True
            elif marker["name"] in self._waiting:
                self._close(self._text(marker.start()))
                self.current, self._note = marker["name"], marker["note"] or ""
                self._waiting.discard(self.current)
                self._go_on(marker.end())
                self._began(self.current)
                return True
        return False

    def _take_again(self) -> bool:
        """After a summary, another program of the same run may start; returns whether one did."""
        match = _AGAIN.search(self._rest, 1)
        if match is None:
            return False
        self._take_details(self._text(match.start()))
        self._go_on(match.start())
        self._over = False
        return True

    def _take_details(self, text: str) -> None:
        for match in _DETAIL.finditer(text):
            self.details[match["name"]] = match["text"].strip("\n")

    def _close(self, segment: str) -> bool:
        """The end of the current test, if the text up to this point contains it."""
        if not self.current:
            return True
        tail = segment[-_LONGEST_STATUS:]
        match = _STATUS.search(tail)
        if match is None:
            return False
        text = segment[: len(segment) - len(tail) + match.start(1)].removeprefix("\n")
        status = match[1].partition(",")[0]
        self._ended(
            TestEnding(
                name=self.current,
                status=status,
                text=text,
                note=self._note,
                reason=match["why"] or "",
            )
        )
        self.current = ""
        return True


def verdict(test: TestEnding) -> dict[str, Any]:
    """Outcome, message, output and frames (files as printed) of a test."""
    if test.status == "ok":
        return {"outcome": "passed", "output": test.text}
    if test.status == "ignored":
        return {"outcome": "skipped", "message": test.reason}
    return failure(test.text, test.name, should_panic=test.note == "should panic")


def failure(text: str, name: str, *, should_panic: bool = False) -> dict[str, Any]:
    """The message of a failed test."""
    panics = [m for m in _PANIC.finditer(text) if _RETURNED not in (m["old"] or "")]
    own = [panic for panic in panics if panic["thread"] in (name, "main")]
    if not panics:
        if should_panic:
            return {"outcome": "failed", "message": "the test should panic, but did not"}
        error = _ERROR.search(text)
        message = "the test failed"
        if error:
            message = f"the test returned an error: {error['text']}"
        if error:
            printed = text[: error.start()]
        else:
            printed = text
        return {"outcome": "errored", "message": message, "output": printed}
    panic = (own or panics)[-1]
    message = (panic["old"] or panic["new"] or "").strip("\n")
    compared = _COMPARED.match(message)
    after = message[compared.end() :] if compared else ""  # printed late: it was still buffered
    message = message[: len(message) - len(after)]
    location = panic["place"] or panic["oldplace"]
    file, line = location.rsplit(":", 2)[:2]
    frames = [{"file": file, "line": int(line), "function": name}]
    called = [
        {"file": m["place"], "line": int(m["line"]), "function": m["function"]}
        for m in _BACKTRACE.finditer(panic["rest"])
        if not m["place"].startswith("/rustc/") and "{{closure}}" not in m["function"]
    ]
    outcome = "failed"
    if message.startswith(_RUNTIME_PANICS):
        outcome = "errored"
    if should_panic:
        outcome, message = "failed", f"the test panicked with a different message: {message}"
    output = text[: panic.start()] + after.removeprefix("\n") + text[panic.end() :]
    return {
        "outcome": outcome,
        "message": message,
        "output": output,
        "frames": called[::-1] or frames,
    }
