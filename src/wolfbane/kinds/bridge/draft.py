"""Writes a first bridge file from a few answers."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from dataclasses import dataclass

from wolfbane.kinds.bridge.toml_text import toml_list, toml_text

WAYS = {
    "lines": "with patterns for the lines of a file",
    "query": "with a query over the syntax of a language",
    "listing": "with a command that lists the tests",
    "files": "not at all: each file is one test",
}
LISTS = {"names": "one name per line", "json": "JSON", "tap": "TAP, without running any test"}
NAMES = {
    "each": "as separate arguments, optionally each after an option",
    "joined": "in one argument, separated by commas",
    "pattern": "as one regular expression",
    "list": "in a file, one name per line",
    "input": "in its standard input, one name per line",
    "none": "not at all: each start runs all tests",
}
FORMATS = {
    "xunit": "xUnit-style XML",
    "ctrf": "CTRF, a common JSON format for test reports",
    "tap": "TAP",
    "events": "JSON Lines: one JSON object per test",
    "lines": "text lines that show the outcome of each test",
}
PRINTED = ("tap", "events", "lines")
"""Formats that a launcher may print instead of writing a file."""
ENDINGS = {"xunit": ".xml", "ctrf": ".json", "tap": ".tap", "events": ".jsonl", "lines": ".txt"}
_NAMED = {"NAME": "name", "TAG": "tag", "KEY": "key", "VALUE": "value"}


@dataclass(frozen=True)
class Draft:
    """The answers. ``way`` is the way to find tests. Lines are copied from a test file."""

    files: Sequence[str]
    way: str
    command: str
    test_line: str = ""
    group_line: str = ""
    tag_line: str = ""
    grammar: str = ""
    list_command: str = ""
    list_format: str = "names"
    names: str = "each"
    option: str = ""
    name: str = "{name}"
    format: str = "xunit"
    report: str = ""
    failed: int = 1

    @property
    def about(self) -> str:
        """A name for the launcher: its script, or otherwise its program."""
        arguments = shlex.split(self.command)
        scripts = [word for word in arguments[:3] if "." in word and "{" not in word]
        return (scripts or arguments)[0].rpartition("/")[2]


def pattern_of(line: str) -> str:
    """A regular expression for lines like this one, which contains NAME, TAG, KEY or VALUE.

    The text after the last of them is matched only up to the character that ends it: a quote, a
    bracket.
    """
    pieces = re.split(r"\b(NAME|TAG|KEY|VALUE)\b", line.strip())
    if len(pieces) == 1:
        return f"^\\s*{_escaped(line.strip())}"
    made = [r"^\s*", _escaped(pieces[0])]
    for word, after in zip(pieces[1::2], pieces[2::2]):
        ends = after[:1].strip()
        inner = r"\S+"
        if word == "NAME" and not after:
            inner = r".*\S"
        if ends:
            inner = f"[^{_in_brackets(ends)}]+"
        made += [f"(?P<{_NAMED[word]}>{inner})", _escaped(after)]
    last = pieces[-1]
    made[-1] = _escaped(last[:1]) if last[:1].strip() else ""
    return "".join(made)


def _escaped(text: str) -> str:
    return r"\s+".join(re.escape(word) for word in re.split(r"\s+", text))


def _in_brackets(character: str) -> str:
    if character in r"\]^-":
        return f"\\{character}"
    return character


def written(draft: Draft) -> str:
    """The file, with comments on the values that the user should check."""
    return "\n".join([*_head(draft), *_find(draft), *_run(draft), *_read(draft)]) + "\n"


def _head(draft: Draft) -> list[str]:
    return [
        "# This bridge describes our own launcher. To check it: wolfbane bridge check THIS FILE",
        f"about = {toml_text(draft.about)}",
        "",
    ]


def _find(draft: Draft) -> list[str]:
    lines = ["[find]", f"files = {toml_list(draft.files)}", ""]
    if draft.way == "lines":
        lines += ["[find.lines]                  # regular expressions, tried on each line"]
        lines += [f"test = {toml_text(pattern_of(draft.test_line))}"]
        patterns = {"group": draft.group_line, "tag": draft.tag_line}
        for key, line in patterns.items():
            if line:
                lines.append(f"{key} = {toml_text(pattern_of(line))}")
            else:
                lines.append(f"# {key} = '...'")
        lines += ["# end = '^}'                  # otherwise groups follow indentation", ""]
    elif draft.way == "query":
        lines += [
            "[find.query]                  # pip install 'wolfbane[grammars]'",
            f"grammar = {toml_text(draft.grammar)}",
            "# A tree-sitter query: captures each test and group, with their names.",
            "text = '''",
            _QUERIES.get(draft.grammar, _QUERIES[""]).strip(),
            "'''",
            "",
        ]
    elif draft.way == "listing":
        lines += ["[find.listing]                # a command that prints all tests"]
        lines += [f"command = {toml_list(shlex.split(draft.list_command))}"]
        lines += [f'format = "{draft.list_format}"']
        if draft.list_format == "names":
            lines += ["# pattern = '^(?P<group>\\w+)\\.(?P<name>\\w+)'"]
        lines += [""]
    return lines


def _run(draft: Draft) -> list[str]:
    lines = [
        "[run]                         # runs in the suite's folder",
        f"command = {toml_list(shlex.split(draft.command))}",
        "passed = [0]                  # exit codes; every other code is an error",
        f"failed = [{draft.failed}]",
        "",
        "[run.names]",
        f'how = "{draft.names}"',
    ]
    if draft.option:
        lines += [f"option = {toml_text(draft.option)}"]
    if draft.names == "pattern":
        lines += ['dialect = "pcre"              # or python, java, javascript, go, posix, tcl']
    if draft.names != "files":
        lines += [
            f"name = {toml_text(draft.name)}".ljust(30) + "# how the launcher "
            "writes the name of a test"
        ]
    return [*lines, ""]


def _read(draft: Draft) -> list[str]:
    lines = ["[read]", f'format = "{draft.format}"']
    if draft.report:
        lines += [f"report = {toml_text(draft.report)}"]
    if draft.format == "lines":
        lines += [
            r"passed = '^ok (?P<name>\S+)'",
            r"failed = '^failed (?P<name>\S+)( (?P<message>.*))?'",
        ]
    if draft.names != "files":
        lines += [
            f"name = {toml_text(draft.name)}".ljust(30) + "# the same for an entry of the report"
        ]
        lines += [
            r"# part = '^(?P<test>.+)\[(?P<part>.*)\]$'   "
            r"# if data rows have their own entries"
        ]
    return lines


_CALLS = """
(call_expression function: (identifier) @kind
  arguments: (arguments . (string) @test.name) (#eq? @kind "check")) @test
"""
_QUERIES = {
    "java": """
(class_declaration name: (identifier) @group.name) @group
(method_declaration (modifiers (marker_annotation name: (identifier) @kind))
  name: (identifier) @test.name (#eq? @kind "Case")) @test
""",
    "c-sharp": """
(class_declaration name: (identifier) @group.name) @group
(method_declaration (attribute_list (attribute name: (identifier) @kind))
  name: (identifier) @test.name (#eq? @kind "Case")) @test
""",
    "javascript": _CALLS,
    "typescript": _CALLS,
    "tsx": _CALLS,
    "go": """
(function_declaration name: (identifier) @test.name (#match? @test.name "^Test")) @test
""",
    "php": """
(class_declaration name: (name) @group.name) @group
(method_declaration name: (name) @test.name (#match? @test.name "^test")) @test
""",
    "ruby": """
(call method: (identifier) @kind
  arguments: (argument_list . (string) @test.name) (#eq? @kind "check")) @test
""",
    "rust": """
(function_item name: (identifier) @test.name (#match? @test.name "^check")) @test
""",
    "": """
(function_definition name: (identifier) @test.name) @test
""",
}
