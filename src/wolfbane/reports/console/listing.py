"""Lists of tests as a table, a tree or JSON, grouped and with counts."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cache
from textwrap import wrap

from wolfbane.model import Tag, Test, variant
from wolfbane.reports.text import in_line, many, visible


def _file(test: Test) -> str:
    """The file of a test, in its browser and environment."""
    return variant(test.path, test.browser, test.target)


GROUPINGS: dict[str, Callable[[Test], Iterable[str]]] = {
    "suite": lambda test: (f"{test.suite} ({test.kind})",),
    "kind": lambda test: (test.kind,),
    "file": lambda test: (_file(test),),
    "browser": lambda test: (test.browser or "(no browser)",),
    "tag": lambda test: [tag.text for tag in test.tags] or ("(no tag)",),
}
GUESSED = "~"
_WIDEST = 48
"""Columns of names; longer ones push their tags to the right."""
_NARROWEST = 12
_BEFORE = 12
"""Columns of a table before and after a name: the mark, the line and the gaps."""
_GAP = "\N{NO-BREAK SPACE}"
"""Between a tag and its count: no line break is allowed there."""
_MOST_UNLOADED = 3
_TAGS = 20
"""Minimum columns for tags on a narrow terminal."""


def table(tests: Sequence[Test], by: str, room: int) -> Iterator[str]:
    """Groups, their files, and a row for each test: source line, name, tags.

    Tags that do not fit into ``room`` columns continue below.
    """
    longest = max((len(test.name) for test in tests), default=0)
    width = min(_WIDEST, longest, max(room - _BEFORE - _TAGS, _NARROWEST))
    for heading, members in _groups(tests, by):
        yield f"{visible(heading)}: {many(len(members), 'test')}"
        path = ""
        for test in members:
            if _file(test) != path and test.name:
                path = _file(test)
                if by != "file":
                    yield f"  {in_line(path)}"
            mark = " "
            if not test.exact:
                mark = GUESSED
            if test.name:
                line = test.line or ""
                head = f"  {mark}{line:>5}  {in_line(test.name):<{width}}"
            else:
                head = f"  {in_line(_file(test)):<{width + 8}}"
            row = f"{head}  {_tags(test.tags)}".rstrip()
            yield (
                row if len(row) <= room else _in_lines(head, test.tags, width + _BEFORE, room=room)
            )
        yield ""


def tree(tests: Sequence[Test], by: str) -> Iterator[str]:
    """Groups, their files, and the names inside them, each level indented."""
    for heading, members in _groups(tests, by):
        yield f"{visible(heading)}: {many(len(members), 'test')}"
        above: list[str] = []
        for test in members:
            if by != "file":
                levels = [_file(test)]
            else:
                levels = []
            if test.name:
                levels += test.name.split(" / ")
            shared = 0
            while shared < min(len(levels) - 1, len(above)) and above[shared] == levels[shared]:
                shared += 1
            for depth in range(shared, len(levels)):
                last = depth == len(levels) - 1
                mark = " "
                if last and not test.exact:
                    mark = GUESSED
                tags = ""
                if last:
                    tags = _tags(test.tags)
                text = f" {mark} {'   ' * depth}{in_line(levels[depth])}"
                yield f"{text}  [{tags}]" if tags else text
            above = levels
        yield ""


def as_json(tests: Sequence[Test], status: Mapping[str, str]) -> str:
    """An array of objects, one for each test."""
    rows = [
        {
            "address": test.address,
            "suite": test.suite,
            "kind": test.kind,
            "path": test.path,
            "name": test.name,
            "line": test.line,
            "tags": [tag.text for tag in test.tags],
            "browser": test.browser,
            "exact": test.exact,
            "status": status.get(test.address, "new"),
        }
        for test in tests
    ]
    return json.dumps(rows, indent=1)


def closing_lines(
    tests: Sequence[Test],
    left_out: Mapping[str, int],
    room: int,
    *,
    needed: int = 0,
    unloaded: Sequence[str] = (),
) -> Iterator[str]:
    """The counts: tests, files, suites, each tag; the excluded tests; the meaning of ``~``.

    ``needed`` tests also run, because listed tests need them. ``unloaded`` files may contain more
    tests. Lines have at most ``room`` columns.
    """
    for text in _closing(tests, left_out, needed, unloaded=unloaded):
        # Not as tables are wrapped: rich takes half of a list's time to load.
        lines = wrap(
            text, room, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False
        )
        yield from (line.replace(_GAP, " ") for line in lines)


def _closing(
    tests: Sequence[Test], left_out: Mapping[str, int], needed: int, unloaded: Sequence[str]
) -> Iterator[str]:
    files = len({test.path for test in tests})
    suites = len({test.suite for test in tests})
    line = f"{many(len(tests), 'test')} in {many(files, 'file')} of {many(suites, 'suite')}"
    if needed:
        line += f", and {needed} more that they need"
    if not tests:
        line = "No test is known before the files are loaded"
    yield f"at least {line}" if unloaded and tests else line
    if unloaded:
        some = ", ".join(map(visible, unloaded[:_MOST_UNLOADED]))
        if len(unloaded) > _MOST_UNLOADED:
            some += ", ..."
        more = "tests"
        if tests:
            more = "more tests"
        yield f"{many(len(unloaded), 'file')} may show {more} when loaded (--exact): {some}"
    tags = Counter(tag.text for test in tests for tag in test.tags)
    if tags:
        yield "tags: " + ", ".join(f"{visible(tag)}{_GAP}{n}" for tag, n in tags.most_common(20))
    for rule, count in left_out.items():
        yield f"left out: {count} by {visible(rule)}"
    if not all(test.exact for test in tests):
        yield (
            f"{GUESSED} found by reading the source; exact after the file was run, or with --exact"
        )


def _in_lines(head: str, tags: tuple[Tag, ...], start: int, room: int) -> str:
    """A row whose tags continue below if they fit there."""
    lines, line, below = [], f"{head} ", " " * (start - 1)
    for tag in _tags(tags).split():
        if len(line) + 1 + len(tag) > room and len(line) > len(below):
            lines.append(line.rstrip())
            line = below
        line += f" {tag}"
    return "\n".join([*lines, line.rstrip()])


@cache
def _tags(tags: tuple[Tag, ...]) -> str:
    return visible(" ".join(tag.text for tag in tags))


def _groups(tests: Sequence[Test], by: str) -> list[tuple[str, list[Test]]]:
    groups: dict[str, list[Test]] = {}
    headings = GROUPINGS[by]
    for test in tests:
        for heading in headings(test):
            groups.setdefault(heading, []).append(test)
    if by == "tag":
        return sorted(groups.items())
    return list(groups.items())
