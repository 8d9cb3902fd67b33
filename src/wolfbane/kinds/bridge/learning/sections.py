"""Learns the lines that give the file, package or group of the results around them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import PurePosixPath
from typing import Any, NamedTuple

from wolfbane.kinds.bridge.learning.line_frames import COLOUR

_TOKEN = re.compile(r"[^\s:,;()\[\]\"'`]+")
_RESULTS = ("passed", "failed", "skipped")


class _Place(NamedTuple):
    """A line that names a test file, its folder or a group: the text around the name, and the
    number of results before the line.
    """

    before: str
    after: str
    key: str
    value: str
    results: int


def section_keys(output: str, table: Mapping[str, Any], texts: Mapping[str, str]) -> dict[str, str]:
    """``section`` or ``section_end`` for a table of lines; empty if no lines name the files or
    groups of tests. ``texts`` are the test files.

    Each place has to be named once, and to have its own results.
    """
    patterns = [re.compile(table[key]) for key in _RESULTS if table.get(key)]
    lines = [COLOUR.sub("", line) for line in re.split(r"\r?\n|\r", output)]
    counts = [any(pattern.search(line) for pattern in patterns) for line in lines]
    for name in (_place_of_file, _place_of_group):
        places = list(_places(lines, counts, texts, name=name))
        before = [section.results for section in places]
        values = {section.value for section in places}
        kinds = {section.key for section in places}
        if len(places) < 2 or len(kinds) > 1 or not len(values) == len(places) == len(set(before)):
            continue
        if before[0] == 0 and before[-1] < sum(counts):
            return {"section": _pattern(places)}
        if before[0] and before[-1] == sum(counts):
            return {"section_end": _pattern(places)}
    return {}


def _pattern(places: Sequence[_Place]) -> str:
    """The pattern of these lines."""
    starts = "|".join(dict.fromkeys(_loose(section.before.strip()) for section in places))
    afters = {section.after.rstrip() for section in places}
    marks = {after[:1].strip() for after in afters}
    if len(afters) == 1:
        end = rf"{_escaped(afters.pop())}\s*$"
    else:
        end = r"(?=\W|$)"
        if len(marks) == 1:
            end = re.escape(marks.pop())
    word = r"\S+?"
    if any(" " in section.value for section in places):
        word = ".+?"
    return rf"^\s*(?:{starts})(?P<{places[0].key}>{word}){end}"


_Namer = Callable[[str, Mapping[str, str]], "tuple[str, int, int] | None"]
"""Finds the file, package or group in a line: the key, and the position of the name."""


def _places(
    lines: Sequence[str], counts: Sequence[bool], texts: Mapping[str, str], name: _Namer
) -> Iterator[_Place]:
    results = 0
    for line, is_result in zip(lines, counts, strict=True):
        group = None
        if not is_result:
            group = name(line, texts)
        if group:
            key, start, end = group
            value = line[start:end].removeprefix("./").rstrip("/.")
            yield _Place(
                before=line[:start], after=line[end:], key=key, value=value, results=results
            )
        results += is_result


def _place_of_file(line: str, texts: Mapping[str, str]) -> tuple[str, int, int] | None:
    folders = {str(PurePosixPath(path).parent) for path in texts} - {"."}
    for token in _TOKEN.finditer(line):
        text = token[0].removeprefix("./").rstrip("/.")
        if text in texts:
            return "file", *token.span()
        # A package's path ends with the folder of a test file.
        if text in folders or any(text.endswith(f"/{folder}") for folder in folders):
            return "package", *token.span()
    return None


def _place_of_group(line: str, texts: Mapping[str, str]) -> tuple[str, int, int] | None:
    """The words between the marks of a line, if a test file contains or has this name."""
    match = re.search(r"\w.*\w", line)
    if not match:
        return None
    stems = {PurePosixPath(path).stem for path in texts}
    known = match[0] in stems or any(match[0] in text for text in texts.values())
    if known:
        return ("group", *match.span())
    return None


def _loose(text: str) -> str:
    """A text with any blanks in it and after it."""
    if not text:
        return ""
    return _escaped(text) + (r"\s+" if text[-1].isalnum() else r"\s*")


def _escaped(text: str) -> str:
    """A text with any blanks in it."""
    return re.sub(r"(?:\\\s)+", r"\\s+", re.escape(text))
