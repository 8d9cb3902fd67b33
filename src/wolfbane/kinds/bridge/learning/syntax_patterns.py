"""Finds tests that are declared by calls, such as ``test('floats', ...)``, with a grammar.

A grammar handles what line patterns cannot: escapes in a name, or a name on its own line.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from wolfbane.kinds.bridge.learning.source_patterns import (
    SourceTests,
    ends_of,
    find_lines,
    glob_of,
    prefixes,
    texts_of,
)
from wolfbane.kinds.bridge.outline import CannotFind, Item, Patterns
from wolfbane.kinds.bridge.queries import queried

_GRAMMARS = {
    ".js": "javascript",
    ".mjs": "javascript",
    ".cjs": "javascript",
    ".ts": "typescript",
    ".mts": "typescript",
    ".tsx": "tsx",
    ".rb": "ruby",
}
_CALL = """
(call_expression function: (_) @tag
  arguments: (arguments . [(string) (template_string)] @{what}.name){where}) @{what}
"""
_RUBY = """
(call method: (identifier) @tag
  arguments: (argument_list . (string) @{what}.name){where}) @{what}
"""
_SURE = 0.8


class _Calls(msgspec.Struct):
    """The meaning of a function's calls: tests, groups, or other calls."""

    tests: int = 0
    groups: int = 0
    all: int = 0


def find_sources(root: Path, names: Sequence[str], skip: Collection[str]) -> SourceTests | None:
    """The tests of a report in the sources of a folder; None if no file contains them.

    Lines are tried first. A grammar is used only if it finds more tests.
    """
    texts, ends = dict(texts_of(root, skip)), ends_of(names)
    by_lines = find_lines(texts, ends)
    by_calls = _find_calls(texts, ends)
    if by_calls and (not by_lines or len(by_calls.hits(ends)) > len(by_lines.hits(ends))):
        return by_calls
    return by_lines


def _find_calls(texts: Mapping[str, str], names: Mapping[str, str]) -> SourceTests | None:
    """The tests that calls of some functions declare; None if there are none, or no grammar.

    ``names`` has the names of the report by their last parts.
    """
    endings = {Path(path).suffix for path in texts} & set(_GRAMMARS)
    best: SourceTests | None = None
    for ending in sorted(endings):
        grammar, mine = _GRAMMARS[ending], {p: t for p, t in texts.items() if p.endswith(ending)}
        try:
            patterns = _found(mine, grammar, names)
        except CannotFind:  # its package is not here
            continue
        if patterns and (best is None or len(patterns.tests) > len(best.tests)):
            best = patterns
    return best


def _found(texts: Mapping[str, str], grammar: str, names: Mapping[str, str]) -> SourceTests | None:
    if grammar == "ruby":
        form = _RUBY
    else:
        form = _CALL
    around = {prefix for name in set(names.values()) for prefix in prefixes(name)}
    calls: defaultdict[str, _Calls] = defaultdict(_Calls)
    for item in _items(texts, grammar, form.format(what="test", where="")):
        call = calls[item.tags[0]]
        call.all += 1
        call.groups += item.name in around
        call.tests += item.name in names
    tests = [kind for kind, call in calls.items() if call.tests >= call.all * _SURE]
    groups = [k for k, call in calls.items() if k not in tests and call.groups >= call.all * _SURE]
    if not tests:
        return None
    # The function's name is looked at, and is no tag.
    form = form.replace("@tag", "@kind")
    query = form.format(what="test", where=_only(tests))
    if groups:
        query += form.format(what="group", where=_only(groups))
    patterns = [
        (path, item)
        for path, text in texts.items()
        for item in queried(text.encode(), grammar, query)
        if item.is_test
    ]
    glob = glob_of([*dict.fromkeys(path for path, _ in patterns)], Path(next(iter(texts))).suffix)
    return SourceTests(glob, Patterns(""), patterns, query=(grammar, query.strip()))


def _items(texts: Mapping[str, str], grammar: str, query: str) -> Iterator[Item]:
    for text in texts.values():
        yield from queried(text.encode(), grammar, query)


def _only(kinds: list[str]) -> str:
    """The condition that a function is one of these."""
    escaped = "|".join(re.escape(kind) for kind in kinds).replace("\\", "\\\\")
    return f' (#match? @kind "^({escaped})$")'
