"""The data in the messages of workers: outcomes, stacks, parts, and test results."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from wolfbane.model import Outcome

WorkerOutcome = Literal[
    "passed", "failed", "errored", "timed out", "crashed", "blocked", "skipped", "todo"
]
"""Outcomes that a worker can report. Only Wolfbane can decide whether a test is flaky."""
Address = Annotated[str, msgspec.Meta(min_length=1)]
Line = Annotated[int, msgspec.Meta(ge=1)]
Seconds = Annotated[float, msgspec.Meta(ge=0)]


class FrameData(msgspec.Struct, frozen=True):
    """One call of a stack: a place in a source file."""

    file: str
    line: int | None
    function: str


class PartData(msgspec.Struct, frozen=True):
    """A subtest, point or step of a test. ``table`` contains rows of cells."""

    name: str
    outcome: WorkerOutcome
    message: str = ""
    seconds: Seconds = 0.0
    file: str = ""
    line: int = 0
    parts: tuple[PartData, ...] = ()
    table: tuple[tuple[str, ...], ...] = ()
    text: str = ""


class AttemptData(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An attempt that the runtime itself made before the final attempt."""

    outcome: WorkerOutcome
    seconds: Seconds = 0.0
    message: str = ""
    trace: str = ""
    output: str = ""


class Ending(msgspec.Struct, frozen=True, kw_only=True):
    """How a test ended. ``about`` are headings above it, each with its description.

    ``account`` is for bridges: ``added`` for an unknown test, ``unasked`` for a test that was not
    selected, ``missing`` for a test without a result.
    """

    outcome: WorkerOutcome
    seconds: Seconds = 0.0
    message: str = ""
    trace: str = ""
    frames: tuple[FrameData, ...] = ()
    parts: tuple[PartData, ...] = ()
    attempts: tuple[AttemptData, ...] = ()
    account: Literal["", "added", "unasked", "missing"] = ""
    about: tuple[tuple[str, str], ...] = ()


def ending(outcome: Outcome, message: str, seconds: float = 0.0) -> Ending:
    """The end of a test that Wolfbane itself reports, and not a worker."""
    return msgspec.convert(
        {"outcome": outcome.value, "message": message, "seconds": seconds}, Ending
    )


class Message(msgspec.Struct, frozen=True, kw_only=True, tag_field="type"):
    """A message of a worker."""
