"""Tags for any language: from comment lines, from ``@`` words in titles, and from rules."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence, Set

from msgspec.structs import replace

from wolfbane.model import Tag, Test, TestFile
from wolfbane.selection import Matcher, parse
from wolfbane.workspace.settings import TagRule

_COMMENT = re.compile(
    r"^[ \t]*(?:#|//|--|;|%|\*|/\*|<!--)+[ \t]*tags:[ \t]*(.*?)[ \t]*(?:\*/|-->)?[ \t]*$", re.I
)
_ANY_COMMENT = re.compile(r"^\s*(?:#(?!\[)|//|--|;|%|\*|/\*|$)")
_OPENS_TEXT = re.compile(r"""^\s*[rR]?(\"{3}|'{3})""")
_TEXT_LINE = re.compile(r"""^\s*(?:"[^"]*"|'[^']*');?\s*$""")
_TITLE = re.compile(r"(?:^|\s)@([A-Za-z][\w.-]*(?:=[\w.-]+)?)")


def with_source_tags(file: TestFile, source: bytes) -> TestFile:
    """Add tags from comment lines and from titles to the tests of a file."""
    if b"tags:" in source.lower():
        comments = _comment_tags(source)
    else:
        comments = []
    titled = any("@" in test.name for test in file.tests)
    if not comments and not titled:
        return file
    lines = {test.name: test.line for test in file.tests}
    lines.update((block.name, block.start) for block in file.blocks)
    return replace(file, tests=tuple(_tagged(test, lines, comments) for test in file.tests))


def apply_rules(tests: Iterable[Test], rules: Sequence[TagRule]) -> list[Test]:
    """Add each rule's tag to the tests that match its expression; later rules see earlier tags."""
    tagged = list(tests)
    for rule in rules:
        tag = Tag.parse(rule.name, f"rule {rule.match}")
        matches = Matcher(parse(rule.match))
        tagged = [
            replace(test, tags=(*test.tags, tag)) if matches(test) else test for test in tagged
        ]
    return tagged


class _Comment:
    """Tags on one comment line, and the lines of code below it (none: whole file).

    That is the first line, and if it starts with ``@`` (a decorator, a line of tags), also the
    following lines up to the first line that does not.
    """

    def __init__(self, tags: tuple[Tag, ...], targets: Set[int]) -> None:
        self.tags, self.targets = tags, targets


def _comment_tags(source: bytes) -> list[_Comment]:
    lines = source.decode("utf-8", "replace").splitlines()
    head_ends = _end_of_head(lines)
    comments = []
    for index, line in enumerate(lines):
        match = _COMMENT.match(line)
        if match:
            target = index
            while (
                target < len(lines) and _ANY_COMMENT.match(lines[target]) and lines[target].strip()
            ):
                target += 1
            loose = target >= len(lines) or not lines[target].strip()
            whole_file = loose and index < head_ends
            where = "file head"
            if not whole_file:
                where = f"comment on line {index + 1}"
            tags = tuple(Tag.parse(t, where) for t in match[1].split(",") if t.strip())
            comments.append(_Comment(tags, set() if whole_file else _below(lines, target)))
    return comments


def _below(lines: Sequence[str], first: int) -> set[int]:
    last = first
    while last < len(lines) - 1 and lines[last].lstrip().startswith("@"):
        last += 1
    return set(range(first + 1, last + 2))


def _end_of_head(lines: Sequence[str]) -> int:
    """The number of lines at the top that are comments, blank, or a docstring."""
    inside = ""
    for index, line in enumerate(lines):
        if inside:
            inside = "" if inside in line else inside
        elif opened := _OPENS_TEXT.match(line):
            inside = ""
            if opened[1] not in line[opened.end() :]:
                inside = opened[1]
        elif not (_ANY_COMMENT.match(line) or _TEXT_LINE.match(line)):
            return index
    return len(lines)


def _tagged(test: Test, lines: Mapping[str, int], comments: Sequence[_Comment]) -> Test:
    starts = {test.line, *(lines.get(name, -1) for name in test.ancestors)}
    tags = list(test.tags)
    for comment in comments:
        if not comment.targets or not starts.isdisjoint(comment.targets) or not test.name:
            tags += comment.tags
    tags += [Tag.parse(word, "title") for word in _TITLE.findall(test.name)]
    return replace(test, tags=unique(tags))


def unique(tags: Iterable[Tag]) -> tuple[Tag, ...]:
    """The tags without repeats; the first origin of each is kept."""
    return tuple({tag.text: tag for tag in reversed(list(tags))}.values())[::-1]
