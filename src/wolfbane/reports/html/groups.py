"""Groups failures that have the same message or the same place."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

import msgspec

from wolfbane.model import Result

_NOISE = re.compile(
    r"0x[0-9a-fA-F]+"
    r"|\b[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}\b"
    r"|(?<=\d:)\d{4,5}\b"
    r"|\b\d{4}-\d\d-\d\dT[\d:.]+Z?"
)
"""The parts of a message that change from run to run: pointers, UUIDs, ports, times."""


class FailureGroup(msgspec.Struct, frozen=True):
    """A group of similar failures.

    ``common`` says what they share; it is empty for a single failure.
    """

    results: tuple[Result, ...]
    common: str = ""

    @property
    def first(self) -> Result:
        """The failure that represents the group."""
        return self.results[0]


def grouped(results: Sequence[Result]) -> list[FailureGroup]:
    """Group by the first line of the message, the rest by innermost place; largest first."""
    groups, single = _split(results, _message)
    same = [FailureGroup(tuple(members), "the same message") for members in groups]
    groups, single = _split(single, _place)
    same += [FailureGroup(tuple(m), f"the same source line, {_place(m[0])}") for m in groups]
    same += [FailureGroup((result,)) for result in single]
    return sorted(same, key=lambda group: -len(group.results))


def _split(
    results: Sequence[Result], key: Callable[[Result], str]
) -> tuple[list[list[Result]], list[Result]]:
    """Groups with the same key, and single failures with their key."""
    by_key: dict[str, list[Result]] = {}
    for number, result in enumerate(results):
        by_key.setdefault(key(result) or f"\0{number}", []).append(result)
    several = [members for members in by_key.values() if len(members) > 1]
    return several, [members[0] for members in by_key.values() if len(members) == 1]


def _message(result: Result) -> str:
    return _NOISE.sub("*", result.message.partition("\n")[0])


def _place(result: Result) -> str:
    """The innermost stack line in the workspace's own files."""
    own = [frame for frame in result.frames if not frame.file.startswith("/")]
    if own:
        return f"{own[-1].file}:{own[-1].line}"
    return ""
