"""Finds the imports of a JavaScript source by reading its text."""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Iterator, Sequence
from functools import cache
from itertools import islice

from tree_sitter import Language, Parser, Query, QueryCursor
from tree_sitter_javascript import language

ENDINGS = ("", ".js", ".mjs", ".cjs", ".json", "/index.js", "/index.mjs", "/index.cjs")
_QUERY = """
(import_statement source: (string) @from)
(export_statement source: (string) @from)
(call_expression function: [(import) (identifier)] @word arguments: (arguments . (string) @from))
"""


class JavaScriptImports:
    """Follows the imports of JavaScript sources."""

    suffixes: tuple[str, ...] = (".js", ".mjs", ".cjs", ".jsx")

    def names(self, source: bytes) -> list[str]:
        """Relative specifiers."""
        return javascript_imports(source)

    def files(
        self, name: str, path: str, roots: Sequence[str], exists: Callable[[str], bool]
    ) -> Iterator[str]:
        """The first file that a specifier may mean."""
        yield from islice(filter(exists, specifier_files(name, path)), 1)


JAVASCRIPT_IMPORTS = JavaScriptImports()


def javascript_imports(source: bytes) -> list[str]:
    """The relative specifiers of imports, re-exports, ``import(...)`` and ``require(...)``."""
    parser, query = _grammar()
    specifiers: dict[str, None] = {}
    for _, captures in QueryCursor(query).matches(parser.parse(source).root_node):
        words = [node.text for node in captures.get("word", ())]
        if words and words[0] not in (b"import", b"require"):
            continue
        for node in captures.get("from", ()):
            text = (node.text or b"").decode("utf-8", "replace")[1:-1]
            if text.startswith(("./", "../", "/")):
                specifiers[text] = None
    return list(specifiers)


def specifier_files(specifier: str, path: str) -> list[str]:
    """The files that a relative specifier in ``path`` may mean."""
    place = posixpath.normpath(posixpath.join(posixpath.dirname(path), specifier))
    return [f"{place}{ending}" for ending in ENDINGS]


@cache
def _grammar() -> tuple[Parser, Query]:
    javascript = Language(language())
    return Parser(javascript), Query(javascript, _QUERY)
