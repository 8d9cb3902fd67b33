"""Lists of tests: a table, a tree or JSON, grouped, with counts."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cache

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


def table(tests: Sequence[Test], by: str) -> Iterator[str]:
    """Groups, their files, and a line for each test: source line, name, tags."""
    width = min(_WIDEST, max((len(test.name) for test in tests), default=0))
    for heading, members in _groups(tests, by):
        yield f"{visible(heading)}: {many(len(members), 'test')}"
        path = ""
        for test in members:
            if _file(test) != path and test.name:
                path = _file(test)
                if by != "file":
                    yield f"  {in_line(path)}"
            mark = " " if test.exact else GUESSED
            if test.name:
                place = test.line or ""
                row = f"  {mark}{place:>5}  {in_line(test.name):<{width}}  {_tags(test.tags)}"
            else:
                place = _file(test)
                row = f"  {in_line(place):<{width + 8}}  {_tags(test.tags)}"
            yield row.rstrip()
        yield ""


def tree(tests: Sequence[Test], by: str) -> Iterator[str]:
    """Groups, their files, and the names inside them, each level set in."""
    for heading, members in _groups(tests, by):
        yield f"{visible(heading)}: {many(len(members), 'test')}"
        above: list[str] = []
        for test in members:
            levels = [_file(test)] if by != "file" else []
            levels += test.name.split(" / ") if test.name else []
            shared = 0
            while shared < min(len(levels) - 1, len(above)) and above[shared] == levels[shared]:
                shared += 1
            for depth in range(shared, len(levels)):
                last = depth == len(levels) - 1
                mark = GUESSED if last and not test.exact else " "
                tags = _tags(test.tags) if last else ""
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


def closing_lines(tests: Sequence[Test], left_out: Mapping[str, int]) -> Iterator[str]:
    """The counts: tests, files, suites, each tag; what was left out; what ``~`` means."""
    files = len({test.path for test in tests})
    suites = len({test.suite for test in tests})
    line = f"{many(len(tests), 'test')} in {many(files, 'file')} of {many(suites, 'suite')}"
    yield line
    tags = Counter(tag.text for test in tests for tag in test.tags)
    if tags:
        yield "tags: " + ", ".join(f"{visible(tag)} {n}" for tag, n in tags.most_common(20))
    for rule, count in left_out.items():
        yield f"left out: {count} by {visible(rule)}"
    if not all(test.exact for test in tests):
        yield f"{GUESSED} read from the source; exact once its file was run or listed with --exact"


@cache
def _tags(tags: tuple[Tag, ...]) -> str:
    return visible(" ".join(tag.text for tag in tags))


def _groups(tests: Sequence[Test], by: str) -> list[tuple[str, list[Test]]]:
    groups: dict[str, list[Test]] = {}
    headings = GROUPINGS[by]
    for test in tests:
        for heading in headings(test):
            groups.setdefault(heading, []).append(test)
    return sorted(groups.items()) if by == "tag" else list(groups.items())
