"""Which tests a Rust source declares, as far as its text tells: nothing of it is compiled."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache

from tree_sitter import Language, Node, Parser
from tree_sitter_rust import language

_TEST = re.compile(rb"^#\[\s*(?:\w+::)*test\b")
_DOC_EXAMPLE = re.compile(rb"^[ \t]*(?://[/!]|\*)[^\n]*```|#!?\[doc", re.M)


@dataclass(frozen=True)
class Declared:
    """A test function or a module: names nested with `` / ``, lines counted from 1."""

    name: str
    is_module: bool
    line: int
    end: int


@dataclass(frozen=True)
class Source:
    """What a file declares; ``documented`` where its documentation may hold examples."""

    declared: list[Declared]
    documented: bool


def read(source: bytes) -> Source | None:
    """Read a file's test functions; None where it holds neither tests nor examples."""
    documented = _DOC_EXAMPLE.search(source) is not None
    if b"test" not in source and not documented:
        return None
    declared = list(_inside(_parser().parse(source).root_node, ""))
    if not documented and all(item.is_module for item in declared):
        return None
    return Source(declared, documented)


@cache
def _parser() -> Parser:
    return Parser(Language(language()))


def _inside(node: Node, prefix: str) -> Iterator[Declared]:
    attributes: list[Node] = []
    for item in node.named_children:
        if item.type == "attribute_item":
            attributes.append(item)
            continue
        if item.type in ("line_comment", "block_comment"):
            continue
        first = attributes[0] if attributes else item
        line, end = first.start_point[0] + 1, item.end_point[0] + 1
        if item.type == "mod_item" and (body := item.child_by_field_name("body")):
            name = _named(item, prefix)
            yield Declared(name, True, line, end)
            yield from _inside(body, name)
        elif item.type == "function_item" and any(_TEST.match(a.text or b"") for a in attributes):
            yield Declared(_named(item, prefix), False, line, end)
        attributes = []


def _named(item: Node, prefix: str) -> str:
    name = item.child_by_field_name("name")
    text = (name.text or b"").decode("utf-8", "replace") if name else "?"
    return f"{prefix} / {text}" if prefix else text
