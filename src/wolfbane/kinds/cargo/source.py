"""Finds the tests in a Rust source by reading its text, without compiling it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache

from tree_sitter import Language, Node, Parser
from tree_sitter_rust import language

_TEST = re.compile(rb"^#\[\s*(?:\w+::)*test\b")
_ATTRIBUTE = re.compile(r"#\[\s*(?:unsafe\()?\s*([\w:]+)")
_ATTRIBUTES = frozenset(
    {
        "allow",
        "automatically_derived",
        "bench",
        "cfg",
        "cold",
        "deny",
        "deprecated",
        "doc",
        "expect",
        "export_name",
        "feature",
        "forbid",
        "global_allocator",
        "ignore",
        "inline",
        "link",
        "link_name",
        "link_section",
        "macro_export",
        "macro_use",
        "must_use",
        "no_mangle",
        "non_exhaustive",
        "panic_handler",
        "proc_macro",
        "proc_macro_attribute",
        "proc_macro_derive",
        "repr",
        "rustc_deprecated",
        "should_panic",
        "target_feature",
        "test",
        "track_caller",
        "used",
        "warn",
    }
)
_TOOLS = frozenset({"clippy", "rustfmt", "diagnostic", "miri"})
_DERIVES = frozenset(
    {
        "Clone",
        "Copy",
        "Debug",
        "Default",
        "Eq",
        "Hash",
        "Ord",
        "PartialEq",
        "PartialOrd",
        "std",
        "core",
        "fmt",
        "cmp",
        "hash",
        "clone",
        "default",
        "marker",
    }
)
_DOC_EXAMPLE = re.compile(rb"^[ \t]*(?://[/!]|\*)[^\n]*```|#!?\[doc", re.M)


@dataclass(frozen=True)
class RustItem:
    """A test function or a module: names nested with `` / ``, lines counted from 1."""

    name: str
    is_module: bool
    line: int
    end: int


@dataclass(frozen=True)
class RustSource:
    """The declarations of a file; ``documented`` if its documentation may contain examples.

    ``generated``: a macro may create tests here, which only the compiled program shows.
    """

    declared: list[RustItem]
    documented: bool
    generated: bool


def read(source: bytes) -> RustSource | None:
    """Read a file's test functions; None if it contains neither tests nor examples."""
    documented = _DOC_EXAMPLE.search(source) is not None
    may_generate = b"!" in source or b"#[" in source
    if not (b"test" in source or documented or may_generate):
        return None
    tree = _parser().parse(source).root_node
    declared = list(_inside(tree, ""))
    generated = may_generate and _has_macros(tree)
    if not (documented or generated) and all(item.is_module for item in declared):
        return None
    return RustSource(declared, documented, generated)


@cache
def _parser() -> Parser:
    return Parser(Language(language()))


def _inside(node: Node, prefix: str) -> Iterator[RustItem]:
    attributes: list[Node] = []
    for item in node.named_children:
        if item.type == "attribute_item":
            attributes.append(item)
            continue
        if item.type in ("line_comment", "block_comment"):
            continue
        if attributes:
            first = attributes[0]
        else:
            first = item
        line, end = first.start_point[0] + 1, item.end_point[0] + 1
        if item.type == "mod_item" and (body := item.child_by_field_name("body")):
            name = _named(item, prefix)
            yield RustItem(name=name, is_module=True, line=line, end=end)
            yield from _inside(body, name)
        elif item.type == "function_item" and any(_TEST.match(a.text or b"") for a in attributes):
            yield RustItem(name=_named(item, prefix), is_module=False, line=line, end=end)
        attributes = []


def _has_macros(node: Node) -> bool:
    """Whether an item comes from a macro, or has an attribute or a derive from another crate."""
    for item in node.named_children:
        if item.type == "expression_statement" and item.named_children:
            item = item.named_children[0]  # noqa: PLW2901
        if item.type == "macro_invocation" or _is_foreign(item):
            return True
        body = None
        if item.type == "mod_item":
            body = item.child_by_field_name("body")
        if body is not None and _has_macros(body):
            return True
    return False


def _is_foreign(item: Node) -> bool:
    """An attribute that is not built in; ``path`` takes a module from another file."""
    if item.type != "attribute_item":
        return False
    text = (item.text or b"").decode("utf-8", "replace")
    name = _ATTRIBUTE.match(text)
    if name is None or name[1] == "cfg_attr":
        return True
    if name[1] == "derive":
        return not set(re.findall(r"\w+", text)[1:]) <= _DERIVES
    return name[1] not in _ATTRIBUTES and name[1].partition("::")[0] not in _TOOLS


def _named(item: Node, prefix: str) -> str:
    name = item.child_by_field_name("name")
    text = "?"
    if name:
        text = (name.text or b"").decode("utf-8", "replace")
    if prefix:
        return f"{prefix} / {text}"
    return text
