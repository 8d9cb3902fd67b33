"""Finds tests in a source with a tree-sitter query. Annotations and attributes become tags."""

from __future__ import annotations

import importlib
import re
from collections.abc import Iterator
from functools import cache

from tree_sitter import Language, Node, Parser, Query, QueryCursor, QueryError

from wolfbane.kinds.bridge.outline import CannotFind, Item

Captures = dict[str, list[Node]]
_HOMES = {"tsx": "typescript", "php_only": "php"}
"""Grammars that are part of another grammar's package."""


@cache
def _grammar(name: str) -> Language:
    module = f"tree_sitter_{_HOMES.get(name, name).replace('-', '_')}"
    try:
        grammar = importlib.import_module(module)
    except ImportError:
        hint = f"pip install 'wolfbane[grammars]', or {module.replace('_', '-')}"
        raise CannotFind(f"the grammar '{name}' is not installed ({hint})") from None
    made = getattr(grammar, "language", None) or getattr(grammar, f"language_{name}")
    return Language(made())


@cache
def _compiled(grammar: str, text: str) -> tuple[Parser, Query]:
    language = _grammar(grammar)
    try:
        query = Query(language, text)
    except QueryError as error:
        raise CannotFind(f"the query is not valid for the grammar '{grammar}': {error}") from None
    captures = {query.capture_name(number) for number in range(query.capture_count)}
    if missing := {"test", "test.name"} - captures:
        raise CannotFind(f"the query must capture @{min(missing)}")
    return Parser(language), query


def queried(source: bytes, grammar: str, text: str) -> list[Item]:
    """The groups and tests that a query captures, in order. Raises CannotFind.

    A match has ``@test`` with ``@test.name``, or ``@group`` with ``@group.name``, and may have
    ``@tag``, or ``@tag.key`` and ``@tag.value``. A test belongs to the groups whose text contains
    it.
    """
    parser, query = _compiled(grammar, text)
    root = parser.parse(source).root_node
    items: dict[tuple[int, int, bool], Item] = {}
    for _, captures in QueryCursor(query).matches(root):
        for kind in ("group", "test"):
            if kind in captures and f"{kind}.name" in captures:
                _add(items, captures, kind)
    return _nested(items)


def _add(items: dict[tuple[int, int, bool], Item], captures: Captures, kind: str) -> None:
    node = captures[kind][0]
    name = captures[f"{kind}.name"][0]
    span = (node.start_byte, node.end_byte, kind == "test")
    if span not in items:
        line, end = name.start_point.row + 1, node.end_point.row + 1
        items[span] = Item(name=_text(name), line=line, end=end, is_test=kind == "test")
    tags = items[span].tags
    keys = [_text(key) for key in captures.get("tag.key", ())]
    values = [_text(value) for value in captures.get("tag.value", ())]
    labels = [*map(_text, captures.get("tag", ())), *map("=".join, zip(keys, values))]
    tags += [tag for tag in labels if tag not in tags]


def _nested(items: dict[tuple[int, int, bool], Item]) -> list[Item]:
    """Items in order, each with the innermost group around it."""
    around: list[tuple[int, Item]] = []
    ordered = sorted(items, key=lambda span: (span[0], -span[1]))
    for span in ordered:
        _, end, is_test = span
        while around and around[-1][0] < end:
            around.pop()
        items[span].outer = around[-1][1] if around else None
        if not is_test:
            around.append((end, items[span]))
    return [items[span] for span in ordered]


def _text(node: Node) -> str:
    """A node's text; the value of a quoted literal, the name of a symbol."""
    if node.type == "simple_symbol":
        return _bytes(node).decode("utf-8", "replace").removeprefix(":")
    made, at = b"", node.start_byte
    escapes = list(_escapes(node))
    for escape in escapes:
        made += _bytes(node)[at - node.start_byte : escape.start_byte - node.start_byte]
        made += _ESCAPE.sub(_meant, _bytes(escape))
        at = escape.end_byte
    made += _bytes(node)[at - node.start_byte :]
    inside = node.type.endswith(("_fragment", "_content"))  # of a literal: its quotes are text
    if not inside and (literal := _LITERAL.fullmatch(made)):
        made = literal[2]
        if not escapes and literal[1] == b"'":  # where even a quote's escape is no node
            made = made.replace(b"\\'", b"'")
    return made.decode("utf-8", "replace")


_LITERAL = re.compile(rb"[A-Za-z@$#]*(\"\"\"|'''|\"|'|`)(.*)\1#*", re.DOTALL)
_ESCAPE = re.compile(rb"\\(?:u\{?([0-9A-Fa-f]{1,8})\}?|x([0-9A-Fa-f]{2})|(.))", re.DOTALL)
_SHORT = {b"n": b"\n", b"t": b"\t", b"r": b"\r", b"0": b"\0", b"\n": b""}


def _escapes(node: Node) -> Iterator[Node]:
    """The escapes in a literal, if the grammar marks them."""
    for child in node.children:
        if child.type == "escape_sequence":
            yield child
        else:
            yield from _escapes(child)


def _meant(match: re.Match[bytes]) -> bytes:
    if code := match[1] or match[2]:
        number = int(code, 16)
        whole = number < 0x110000 and not 0xD800 <= number < 0xE000
        if whole:
            return chr(number).encode()
        return match[0]
    return _SHORT.get(match[3], match[3])


def _bytes(node: Node) -> bytes:
    return node.text or b""
