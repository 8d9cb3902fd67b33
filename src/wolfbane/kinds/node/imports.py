"""Finds the imports of a JavaScript source by reading its text."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator
from functools import cache
from typing import TYPE_CHECKING

from wolfbane.kinds.imports import JAVASCRIPT, ModuleSearch, SourceImports
from wolfbane.kinds.node.packages import Packages
from wolfbane.kinds.source_tree import SourceTree

if TYPE_CHECKING:
    from tree_sitter import Node, Parser, QueryCursor

_ENDINGS = ("", ".js", ".mjs", ".cjs", ".json", ".node", ".ts", ".tsx", ".jsx")
_INDEX = ("/index.js", "/index.mjs", "/index.cjs", "/index.json", "/index.ts", "/index.tsx")
_QUERY = """
(import_statement source: (string) @from)
(export_statement source: (string) @from)
(call_expression function: [(import) (identifier) (member_expression)] @word
  arguments: (arguments . (_) @from))
"""
_IMPORTING = re.compile(
    r"^(?:\w+\.)*(?:require|require\.resolve|import|import\.meta\.resolve|mock\.module)$"
)
_JOINED = re.compile(r"^(?:path\.)?(?:join|resolve)$")


class JavaScriptImports:
    """Follows the imports of JavaScript sources."""

    suffixes: tuple[str, ...] = JAVASCRIPT

    def __init__(self) -> None:
        self._packages: dict[int, Packages] = {}

    def read(self, path: str, source: bytes) -> SourceImports:
        """Specifiers of imports, re-exports, ``import(...)`` and ``require(...)``."""
        cursor, parser = _grammar()
        names: dict[str, None] = {}
        unclear = ""
        for _, captures in cursor.matches(parser.parse(source).root_node):
            called = [_text(node) for node in captures.get("word", ())]
            if called and not _IMPORTING.match(called[0]):
                continue
            for node in captures.get("from", ()):
                if specifier := _specifier(node):
                    names[specifier] = None
                elif not unclear:
                    shown = " ".join(_text(node).split())[:60]
                    unclear = f"line {node.start_point[0] + 1}: {called[0]}({shown})"
        return SourceImports(tuple(names), unclear=unclear)

    def files(self, name: str, path: str, search: ModuleSearch) -> Iterator[str]:
        """The files that a specifier may mean."""
        folder, tree = posixpath.dirname(path), search.tree
        if name.endswith("*"):
            start = posixpath.normpath(posixpath.join(folder, f"{name.removesuffix('*')}_"))[:-1]
            inside = tree.below(posixpath.dirname(start))
            known = (*self.suffixes, ".json")
            yield from (f for f in inside if f.startswith(start) and f.endswith(known))
        elif name in (".", "..") or name.startswith(("./", "../")):
            yield from _at(posixpath.normpath(posixpath.join(folder, name)), search.tree)
        elif not name.startswith(("/", "node:")):
            packages = self._packages.setdefault(id(tree), Packages(tree))
            for target in packages.targets(name, folder):
                yield from _at(target, tree)


def _at(start: str, tree: SourceTree) -> Iterator[str]:
    """The files that a path without the end of its name may mean: a module or a folder."""
    start = "" if start == "." else start
    if start:
        for ending in _ENDINGS:
            if tree.exists(f"{start}{ending}"):
                yield f"{start}{ending}"
                return
        base, ending = posixpath.splitext(start)
        if ending in (".js", ".mjs", ".cjs", ".jsx"):  # compiled from another language's file
            for other in (ending.replace("j", "t"), ".tsx"):
                if tree.exists(f"{base}{other}"):
                    yield f"{base}{other}"
                    return
    start = f"{start}/" if start else ""
    manifest = f"{start}package.json"
    if tree.exists(manifest):
        yield manifest
        for target in Packages.main_of(tree, start):
            if target != start:
                yield from _at(target, tree)
    yield from (
        path for path in (f"{start}{end}".lstrip("/") for end in _INDEX) if tree.exists(path)
    )


def _specifier(node: Node) -> str:
    """The text of a specifier; ``*`` stands for a rest that only running shows."""
    if node.type == "string":
        return _text(node)[1:-1]
    if node.type == "template_string":
        start = _text(node)[1:-1]
        if "${" not in start:
            return start
        return _partly(start.partition("${")[0])
    if node.type == "binary_expression":
        left = node.child_by_field_name("left")
        if left is not None:
            return _partly(_specifier(left).removesuffix("*"))
        return ""
    if node.type == "call_expression" and (word := node.child_by_field_name("function")):
        if _JOINED.match(_text(word)):
            return _joined(node)
        return ""
    if node.type == "new_expression" and _text(node).startswith("new URL("):
        first = next(iter(_arguments(node)), None)
        if first is not None:
            return _specifier(first)
        return ""
    return ""


def _partly(start: str) -> str:
    """A specifier with a known folder at least; otherwise, nothing is known."""
    if start.startswith(("./", "../")):
        return f"{start}*"
    return ""


def _joined(node: Node) -> str:
    """``path.join(__dirname, 'a', 'b')`` as a relative specifier."""
    first, *parts = _arguments(node)
    known = [_text(part)[1:-1] for part in parts if part.type == "string"]
    if _text(first) not in ("__dirname", "import.meta.dirname") or not known:
        return ""
    joined = "./" + "/".join(known)
    if len(known) == len(parts):
        return joined
    return f"{joined}/*"


def _arguments(node: Node) -> list[Node]:
    arguments = node.child_by_field_name("arguments")
    if arguments is not None:
        return arguments.named_children
    return []


def _text(node: Node) -> str:
    return (node.text or b"").decode("utf-8", "replace")


@cache
def _grammar() -> tuple[QueryCursor, Parser]:
    # Imported late, because a grammar takes a while to load.
    from tree_sitter import Language, Parser, Query, QueryCursor
    from tree_sitter_javascript import language

    javascript = Language(language())
    return QueryCursor(Query(javascript, _QUERY)), Parser(javascript)
