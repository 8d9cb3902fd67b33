"""Finds tests in a source with patterns: groups, names, lines and tags."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, field

from wolfbane.model import NESTED


class CannotFind(Exception):
    """The requested way of finding tests does not work. The text gives the reason."""


@dataclass
class Item:
    """A test, or a group of tests. Lines count from 1; ``tags`` are as written.

    ``number`` distinguishes tests with the same name.
    """

    name: str
    line: int
    end: int
    is_test: bool
    tags: list[str] = field(default_factory=list)
    outer: Item | None = None
    number: int = 1

    @property
    def whole_name(self) -> str:
        """Its name with the names of its groups, and its number if others have the same name."""
        if self.number > 1:
            name = f"{self.name} ({self.number})"
        else:
            name = self.name
        if self.outer:
            return f"{self.outer.whole_name}{NESTED}{name}"
        return name

    @property
    def all_tags(self) -> list[str]:
        """Its tags and the tags of its groups."""
        return [*self.tags, *(self.outer.all_tags if self.outer else ())]


@dataclass(frozen=True)
class Patterns:
    """Regular expressions for the lines of a source; empty ones match nothing."""

    test: str
    group: str = ""
    tag: str = ""
    end: str = ""


def outline(source: str, patterns: Patterns) -> list[Item]:
    """The groups and tests of a source, in order.

    Without an ``end`` pattern, a group contains all lines with more indentation. Tags on the line
    of a test or group, or on the lines before it, belong to it.
    """
    test, group, tag, end = (
        re.compile(text) if text else None
        for text in (patterns.test, patterns.group, patterns.tag, patterns.end)
    )
    items: list[Item] = []
    open_groups: list[tuple[int, Item]] = []
    waiting: list[str] = []
    assert test is not None
    number = 0
    for number, line in enumerate(source.splitlines(), 1):
        depth = len(line) - len(line.lstrip())
        if end is None and line.strip():
            _close(open_groups, depth, number - 1)
        elif end is not None and end.search(line) and open_groups:
            open_groups.pop()[1].end = number
        tags = [_tag(match) for match in tag.finditer(line)] if tag else []
        is_group = None
        if group:
            is_group = group.search(line)
        match = is_group or test.search(line)
        if match is None:
            waiting += tags
            continue
        outer = open_groups[-1][1] if open_groups else None
        item = Item(
            name=match["name"],
            line=number,
            end=number,
            is_test=not is_group,
            tags=[*waiting, *tags],
            outer=outer,
        )
        items.append(item)
        waiting = []
        if is_group:
            open_groups.append((depth, item))
    _close(open_groups, 0, number)
    _stretch(items, number)
    return items


def _close(groups: list[tuple[int, Item]], depth: int, line: int) -> None:
    """End the groups with the same or more indentation."""
    while groups and groups[-1][0] >= depth:
        groups.pop()[1].end = line


def _stretch(items: list[Item], last: int) -> None:
    """A test ends at the next item, or at the end of its group."""
    for item, after in zip(items, [*items[1:], None]):
        if item.is_test:
            if item.outer:
                limit = item.outer.end
            else:
                limit = last
            item.end = max(item.line, min(after.line - 1 if after else last, limit))


def _tag(match: re.Match[str]) -> str:
    groups = match.groupdict()
    if groups.get("key"):
        return f"{groups['key']}={groups.get('value') or ''}"
    return groups.get("tag") or ""


def distinct(items: list[Item]) -> list[Item]:
    """Repeated names of tests get a number, as in every kind."""
    seen: Counter[str] = Counter()
    for item in items:
        if item.is_test:
            name = item.whole_name
            seen[name] += 1
            item.number = seen[name]
    return items
