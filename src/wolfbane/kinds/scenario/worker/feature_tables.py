"""Tables and texts below the steps of feature files.

Runs on Python 3.8 and later without other modules, like the reader of feature files.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from wolfbane.kinds.scenario.worker.scenarios import FeatureError

FENCE = re.compile(r'^(\s*)("""|```)\s*(\S*)\s*$')
"""The line that starts a text, in quotes or backticks."""
_CELL = re.compile(r"((?:\\.|[^|\\])*)\|")
_ESCAPED = re.compile(r"\\(.)")


@dataclass(frozen=True)
class FeatureTable:
    """Rows with their lines, the index of the last line, and the first error."""

    rows: list[tuple[int, tuple[str, ...]]]
    end: int
    problem: FeatureError | None = None


def read_table(lines: list[str], start: int) -> FeatureTable:
    """The table that starts at the index of a line; it may contain empty lines and comments."""
    rows: list[tuple[int, tuple[str, ...]]] = []
    problem = None
    at = start
    while at < len(lines):
        line = lines[at].strip()
        if line.startswith("|"):
            try:
                rows.append((at + 1, _cells(line, at + 1)))
            except FeatureError as error:
                problem = problem or error
        elif line and not line.startswith("#"):
            break
        at += 1
    for number, cells in rows:
        if len(cells) != len(rows[0][1]) and problem is None:
            message = f"this row has {len(cells)} cells, but the first row has {len(rows[0][1])}"
            problem = FeatureError(message, number)
    return FeatureTable(rows, at - 1, problem)


def read_text(lines: list[str], start: int) -> tuple[str, int]:
    """The text between two fences, without the indentation of the first one, and the index of its
    last line. A backslash before quotes keeps them in the text.

    Raises FeatureError.
    """
    match = FENCE.match(lines[start])
    assert match is not None
    indent, fence = len(match[1]), match[2]
    kept: list[str] = []
    for index in range(start + 1, len(lines)):
        line = lines[index]
        if line.strip() == fence:
            return "\n".join(kept), index
        line = line.replace("\\" + "\\".join(fence), fence).replace(f"\\{fence}", fence)
        kept.append(line[min(indent, len(line) - len(line.lstrip())) :])
    raise FeatureError(f"the text that starts here has no closing {fence}", start + 1)


def _cells(line: str, number: int) -> tuple[str, ...]:
    cells = _CELL.findall(line[1:])
    if not cells or not line.endswith("|"):
        raise FeatureError("a table row must end with |", number)
    return tuple(
        _ESCAPED.sub(lambda m: {"n": "\n"}.get(m[1], m[1]), cell.strip()) for cell in cells
    )
