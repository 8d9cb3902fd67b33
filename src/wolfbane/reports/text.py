"""Makes any text from a test safe to print."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Iterator, Sequence

_SEQUENCE = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\)|[@-Z\\^_])")
_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")


def visible(text: str) -> str:
    """Text without control sequences, with other control characters as visible escapes."""
    if text.isprintable():
        return text
    plain = _SEQUENCE.sub("", text).replace("\r\n", "\n").expandtabs(8)
    return _CONTROL.sub(lambda match: _escape(match[0]), plain)


def visible_json(text: str) -> str:
    """JSON text with all control characters in its strings escaped."""
    return _CONTROL.sub(lambda match: f"\\u{ord(match[0]):04x}", text)


def in_line(text: str) -> str:
    """Text that is visible, and stays on its line."""
    return visible(text).replace("\n", "\\n")


def _escape(character: str) -> str:
    code = ord(character)
    if code < 0x100:
        return f"\\x{code:02x}"
    return f"\\u{code:04x}"


def aligned(rows: Sequence[Sequence[str]]) -> Iterator[str]:
    """Rows as lines, with their cells in columns."""
    shown = [[visible(cell) for cell in row] for row in rows]
    widths = [max(map(len, column)) for column in zip(*shown)]
    for row in shown:
        yield "  ".join(cell.ljust(width) for cell, width in zip(row, widths)).rstrip()


def clock(seconds: float) -> str:
    """A duration for display: ``12 ms``, ``3.42 s``, ``2 min 05 s``."""
    if seconds < 0.0995:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 60:
        return f"{seconds:.2f} s"
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes} min {rest:02d} s"


def many(count: int, noun: str) -> str:
    """``1 test``, ``2 tests``."""
    if count == 1:
        return f"{count:,} {noun}"
    return f"{count:,} {noun}s"


def repeating(addresses: Iterable[str], pointed: Sequence[str] = ()) -> str:
    """The command that runs these tests again, in the same environment."""
    return visible(shlex.join(["wolfbane", "run", *pointed, *addresses]))


def repeating_failed(run: str, pointed: Sequence[str] = ()) -> str:
    """The command that runs the failed tests of a run again, from any folder."""
    options: list[str] = []
    for number, word in enumerate(pointed):
        if word in ("-w", "--workspace"):
            options = ["--workspace", pointed[number + 1]]
        elif word.startswith("--workspace="):
            options = [word]
    return visible(shlex.join(["wolfbane", "again", run, "--failed", *options]))
