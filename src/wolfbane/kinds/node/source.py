"""Finds the tests in a JavaScript source by reading its text, without running it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass, field
from functools import cache

from tree_sitter import Language, Node, Parser, Query, QueryCursor
from tree_sitter_javascript import language

TESTS = frozenset({"test", "it"})
SUITES = frozenset({"describe", "suite", "context"})
_MODULE_ITSELF = frozenset({"test", "default"})
"""The exports with these names are the module itself: ``test.describe``, ``test.it``."""
MARKS = frozenset({"skip", "todo", "only"})
_IMPORT = re.compile(r"""import\s+([^;'"]*?)\s+from\s*['"]node:test['"]""")
_REQUIRE = re.compile(
    r"""(?:const|let|var)\s+([^=;]+?)\s*=\s*require\(\s*['"]node:test['"]\s*\)(?:\.(\w+))?"""
)
_NAMED = re.compile(r"(\w+)(?:\s*(?:as|:)\s*(\w+))?")
_QUERY = """
(call_expression function: (identifier) @word arguments: (arguments) @given) @call
(call_expression function: (member_expression object: (identifier) @word
  property: (property_identifier) @member) arguments: (arguments) @given) @call
(call_expression function: (member_expression object: (member_expression
  object: (identifier) @word property: (property_identifier) @member)
  property: (property_identifier) @mark) arguments: (arguments) @given) @call
(arguments (identifier) @passed)
(variable_declarator value: (identifier) @passed)
"""
_CHOOSES = frozenset(
    {
        "for_statement",
        "for_in_statement",
        "while_statement",
        "do_statement",
        "if_statement",
        "ternary_expression",
        "switch_statement",
        "catch_clause",
    }
)
_FUNCTIONS = frozenset(
    {
        "arrow_function",
        "function_expression",
        "function_declaration",
        "method_definition",
        "generator_function",
        "generator_function_declaration",
    }
)
_ESCAPE = re.compile(r"\\(?:u\{([0-9a-fA-F]+)\}|u([0-9a-fA-F]{4})|x([0-9a-fA-F]{2})|(.))", re.S)
_PLAIN_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f", "v": "\v", "0": "\0"}
_SKIPS = re.compile(rb"\bskip\s*:\s*+(?!false\b)")
_ONLY = re.compile(rb"\bonly\s*:\s*+(?!false\b)")


@dataclass
class JavaScriptItem:
    """A test or suite in the source: names nested with `` / ``, lines counted from 1."""

    name: str
    is_suite: bool
    line: int
    end: int
    call: Node
    parent: JavaScriptItem | None
    repeats: Counter[str] = field(default_factory=Counter)
    closed: bool = False

    @property
    def within_test(self) -> bool:
        """Whether it is declared while another test runs."""
        around = self.parent
        return around is not None and (not around.is_suite or around.within_test)


@dataclass
class JavaScriptSource:
    """The declarations of a file; ``dynamic`` if running it may declare other tests.

    ``only_marks`` are the lines that mark one as the only one to run.
    """

    declared: list[JavaScriptItem]
    dynamic: bool
    only_marks: tuple[int, ...] = ()


def read(source: bytes, *, global_words: bool) -> JavaScriptSource | None:
    """Read a file's declarations; None if it uses no test module and none of these words."""
    called = _CalledWords(source.decode("utf-8", "replace"), global_words)
    if not called.known:
        return None
    parser, query = _grammar()
    reader = _JavaScriptReader(called)
    for _, captures in QueryCursor(query).matches(parser.parse(source).root_node):
        passed = captures.get("passed")
        if passed:
            reader.dynamic |= _text(passed[0]) in called.known
        else:
            reader.calls.append((captures["call"][0], captures))
    reader.calls.sort(key=lambda item: item[0].start_byte)
    for call, captures in reader.calls:
        reader.take(call, captures)
    if global_words and not reader.declared and not reader.dynamic:
        return None
    return JavaScriptSource(reader.declared, reader.dynamic, tuple(sorted(reader.only_marks)))


@cache
def _grammar() -> tuple[Parser, Query]:
    javascript = Language(language())
    return Parser(javascript), Query(javascript, _QUERY)


def _kind_of(word: str, tests: Collection[str], suites: Collection[str]) -> str:
    if word in tests:
        return "test"
    if word in suites:
        return "suite"
    return ""


class _CalledWords:
    """The words of a file that mean a test, a suite, or the whole test module."""

    def __init__(self, text: str, global_words: bool) -> None:
        self.tests: set[str] = set()
        self.suites: set[str] = set()
        self.whole: set[str] = set()
        self.only: set[str] = set()
        if global_words:
            self.tests |= TESTS
            self.suites |= {"describe", "context"}
        for match in _IMPORT.finditer(text):
            outside, _, inside = match[1].partition("{")
            self._clause(outside.replace("* as", "").strip(" ,\n"), inside)
        for match in _REQUIRE.finditer(text):
            outside, _, inside = match[1].partition("{")
            if match[2]:
                self._bind(match[2], outside.strip())
            else:
                self._clause(outside.strip(), inside)
        self.tests |= self.whole
        self.known = self.tests | self.suites

    def _clause(self, whole: str, inside: str) -> None:
        if whole:
            self.whole.add(whole)
        for match in _NAMED.finditer(inside):
            self._bind(match[1], match[2] or match[1])

    def _bind(self, name: str, alias: str) -> None:
        if name in TESTS or name in MARKS or name == "default":
            self.tests.add(alias)
            if name == "only":
                self.only.add(alias)
            if name in _MODULE_ITSELF:
                self.whole.add(alias)
        elif name in SUITES:
            self.suites.add(alias)

    def kind(self, word: str, member: str, inside_test: bool) -> str:
        """``test``, ``suite``, or empty, for a call of ``word`` or ``word.member``."""
        if not member or (member in MARKS and word in self.known):
            return _kind_of(word, self.tests, self.suites)
        if word in self.whole:
            return _kind_of(member, TESTS, SUITES)
        if inside_test and member == "test":
            return "test"
        return ""


class _JavaScriptReader:
    def __init__(self, called: _CalledWords) -> None:
        self.called = called
        self.calls: list[tuple[Node, dict[str, list[Node]]]] = []
        self.declared: list[JavaScriptItem] = []
        self.dynamic = False
        self._open: list[JavaScriptItem] = []
        self._repeats: Counter[str] = Counter()
        self._used: set[str] = set()
        self.only_marks: set[int] = set()

    def take(self, call: Node, captures: dict[str, list[Node]]) -> None:
        """Process one call, in the order of the source."""
        while self._open and self._open[-1].call.end_byte <= call.start_byte:
            self._open.pop()
        parent = None
        if self._open:
            parent = self._open[-1]
        word = _text(captures["word"][0])
        member, mark = (_text(captures[n][0]) if n in captures else "" for n in ("member", "mark"))
        if mark and mark not in MARKS:
            return
        inside = parent is not None and (not parent.is_suite or parent.within_test)
        kind = self.called.kind(word, member, inside)
        if not kind or (parent is not None and parent.closed):
            return
        given = captures["given"][0].named_children
        title = _title(given)
        options = next((node.text or b"" for node in given if node.type == "object"), b"")
        if "only" in (member, mark) or word in self.called.only or _ONLY.search(options):
            self.only_marks.add(call.start_point[0] + 1)
        if not inside and (title is None or _depends_on_running(call, parent)):
            self.dynamic = True
        if title is None:
            return
        group = ""
        if parent:
            group = parent.name
        name = self._name(group, title, parent.repeats if parent else self._repeats)
        line, end = call.start_point[0] + 1, call.end_point[0] + 1
        item = JavaScriptItem(
            name=name, is_suite=kind == "suite", line=line, end=end, call=call, parent=parent
        )
        skips = "skip" in (member, mark) or _SKIPS.search(options)
        if item.is_suite and skips:
            item.is_suite, item.closed = False, True  # the runtime takes it as one skipped test
        self.declared.append(item)
        self._open.append(item)

    def _name(self, group: str, title: str, repeats: Counter[str]) -> str:
        """A name that no other item of the file has, as the worker makes it."""
        while True:
            repeats[title] += 1
            if repeats[title] > 1:
                label = f"{title} ({repeats[title]})"
            else:
                label = title
            if group:
                name = f"{group} / {label}"
            else:
                name = label
            if name not in self._used:
                self._used.add(name)
                return name


def _depends_on_running(call: Node, parent: JavaScriptItem | None) -> bool:
    """Whether code between a call and the suite around it decides whether it runs."""
    end = None
    if parent:
        end = parent.call
    node = call.parent
    while node is not None and node != end:
        if node.type in _CHOOSES:
            return True
        if node.type in _FUNCTIONS:
            holder = node.parent
            if end is None or holder is None or holder.parent != end:
                return True
        node = node.parent
    return False


def _title(given: list[Node]) -> str | None:
    """The title among a call's arguments, if it is plain text."""
    if given and given[0].type in ("string", "template_string"):
        parts = given[0].named_children
        if any(part.type == "template_substitution" for part in parts):
            return None
        return _ESCAPE.sub(_unescaped, _text(given[0])[1:-1]) or None
    return None


def _unescaped(match: re.Match[str]) -> str:
    code = match[1] or match[2] or match[3]
    if code:
        return chr(int(code, 16))
    if match[4] == "\n":
        return ""
    return _PLAIN_ESCAPES.get(match[4], match[4])


def _text(node: Node) -> str:
    return (node.text or b"").decode("utf-8", "replace")
