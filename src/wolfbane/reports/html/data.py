"""The data for the report's script: one row per test, and the details of all tests in pieces."""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from typing import Any

import msgspec

from wolfbane.model import Excerpt, Outcome, Part, Result
from wolfbane.reports.console.repeats import repeats_shown
from wolfbane.reports.console.style import ACCOUNTS, ORDER
from wolfbane.reports.html.kept import LONGEST_TEXT, Keeper, shortened
from wolfbane.reports.text import visible

PIECE = 250
"""Tests in a piece of details: a page reads only the piece with the open test."""
ROOM = 6 << 20
"""Characters for the outputs and traces of all tests."""
_LONG_OF_GOOD = 1 << 12
_SHORTEST = 1 << 8
_PARTS = 500
_NUMBER = {outcome: number for number, outcome in enumerate(ORDER)}


class _WordTable:
    """Texts by number, each stored once."""

    def __init__(self) -> None:
        self.numbers: dict[Any, int] = {}

    def __call__(self, word: Any) -> int:
        return self.numbers.setdefault(word, len(self.numbers))

    @property
    def all(self) -> list[Any]:
        return list(self.numbers)


def index(
    results: Sequence[Result], quarantined: Container[str], pointed: Sequence[str]
) -> dict[str, Any]:
    """The rows. Columns are in the order that ``rows.js`` defines."""
    paths, suites, browsers, targets, tags = (_WordTable() for _ in range(5))
    rows, messages = [], {}
    for number, r in enumerate(results):
        rows.append(
            [
                paths(visible(r.path)),
                visible(r.name),
                _NUMBER[r.outcome],
                suites((r.suite, r.kind)),
                browsers(r.browser),
                targets(r.target),
                tags(tuple(map(visible, r.tags))),
                round(r.seconds, 4),
                r.attempt,
                int(r.address in quarantined),
            ]
        )
        if r.message:
            messages[str(number)] = visible(r.message.partition("\n")[0])[:300]
    return {
        "outcomes": [str(outcome) for outcome in ORDER],
        "bad": [_NUMBER[o] for o in ORDER if o.is_failure],
        "paths": paths.all,
        "suites": suites.all,
        "browsers": browsers.all,
        "targets": targets.all,
        "tags": tags.all,
        "rows": rows,
        "messages": messages,
        "piece": PIECE,
        "pointed": list(pointed),
    }


def details(results: Sequence[Result], keeper: Keeper) -> Iterator[tuple[int, dict[str, Any]]]:
    """Pieces of details by number. Tests that did not pass get space first."""
    pieces: dict[int, dict[str, Any]] = {}
    good, other = _longest(results)
    order = sorted(range(len(results)), key=lambda n: results[n].outcome is Outcome.PASSED)
    for number in order:
        if results[number].outcome is Outcome.PASSED:
            longest = good
        else:
            longest = other
        if data := detail(results[number], keeper, longest):
            pieces.setdefault(number // PIECE, {})[str(number)] = data
    yield from sorted(pieces.items())


def _longest(results: Sequence[Result]) -> tuple[int, int]:
    """The maximum length of a text of a passed test, and of another test.

    All of them share ``ROOM``; passed tests get the rest.
    """
    room, limits = ROOM, []
    for passed, most in ((False, LONGEST_TEXT), (True, _LONG_OF_GOOD)):
        mine = [r for r in results if (r.outcome is Outcome.PASSED) is passed]
        sizes = sorted(min(len(text), most) for r in mine for text in (r.output, r.trace) if text)
        limit = max(_fitting(sizes, room, most), _SHORTEST)
        room = max(room - sum(min(size, limit) for size in sizes), 0)
        limits.append(limit)
    return limits[1], limits[0]


def _fitting(sizes: Sequence[int], room: int, most: int) -> int:
    """The length to which texts are shortened so that all of them fit, the shortest first."""
    for number, size in enumerate(sizes):
        others = len(sizes) - number
        if size * others > room:
            return room // others
        room -= size
    return most


def detail(result: Result, keeper: Keeper, longest: int) -> dict[str, Any]:
    """The details of an attempt; missing ones are left out."""
    data = {
        "about": [[visible(title), visible(text)] for title, text in result.about],
        "message": visible(result.message).strip("\n"),
        "trace": shortened(result.trace, longest),
        "frames": [[visible(f.file), f.line, visible(f.function)] for f in result.frames],
        "excerpt": excerpt_shown(result.excerpt) if result.excerpt else None,
        "output": shortened(result.output, longest),
        "parts": [_part(part) for part in result.parts[:_PARTS]],
        "more": max(len(result.parts) - _PARTS, 0),
        "evidence": keeper.embedded(result.evidence),
        "account": ACCOUNTS.get(result.account, ""),
        "again": [visible(word) for word in result.again],
        "worker": result.worker,
        "machine": visible(result.machine),
        "began": result.began,
        "repeated": repeats_shown(result.repeated) if result.repeated else "",
        "earlier": [
            {
                **detail(e, keeper, longest),
                "outcome": _NUMBER[e.outcome],
                "seconds": round(e.seconds, 4),
            }
            for e in result.earlier
        ],
    }
    return {name: value for name, value in data.items() if value}


def excerpt_shown(excerpt: Excerpt) -> dict[str, Any]:
    """Source lines, safe to show."""
    return {
        "file": visible(excerpt.file),
        "line": excerpt.line,
        "first": excerpt.first,
        "lines": [visible(line) for line in excerpt.lines],
    }


def _part(part: Part) -> list[Any]:
    location = ""
    if part.line:
        location = f"{part.file}:{part.line}"
    inner = [_part(each) for each in part.parts[:_PARTS]]
    table = [[visible(cell) for cell in row] for row in part.table]
    if part.table or part.text:
        below = [table, shortened(part.text)]
    else:
        below = []
    return [
        visible(part.name),
        _NUMBER[part.outcome],
        visible(part.message),
        round(part.seconds, 4),
        location,
        inner,
        *below,
    ]


def as_script(data: object) -> str:
    """JSON in which no text can end the element around it."""
    return msgspec.json.encode(data).replace(b"<", b"\\u003c").decode()
