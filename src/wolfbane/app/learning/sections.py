"""Learns the lines that give the file or the package of the results around them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import PurePosixPath
from typing import Any, NamedTuple

_COLOUR = re.compile(r"\x1b\[[0-9;]*[A-Za-z]")
_TOKEN = re.compile(r"[^\s:,;()\[\]\"'`]+")
_RESULTS = ("passed", "failed", "skipped")


class _Place(NamedTuple):
    """A line that names a test file or its folder: the text before the name, and the number of
    results before the line.
    """

    before: str
    after: str
    key: str
    value: str
    results: int


def section_keys(output: str, table: Mapping[str, Any], files: Iterable[str]) -> dict[str, str]:
    """``section`` or ``section_end`` for a table of lines; empty if no lines name the files.

    Each place has to be named once, and to have its own results.
    """
    patterns = [re.compile(table[key]) for key in _RESULTS if table.get(key)]
    lines = [_COLOUR.sub("", line) for line in re.split(r"\r?\n|\r", output)]
    places = list(_places(lines, patterns, list(files)))
    counts = [place.results for place in places]
    values = {place.value for place in places}
    kinds = {place.key for place in places}
    if len(places) < 2 or len(kinds) > 1 or not len(values) == len(places) == len(set(counts)):
        return {}
    results = sum(any(p.search(line) for p in patterns) for line in lines)
    key = "section" if counts[0] == 0 else "section_end"
    if key == "section_end" and counts[-1] != results:
        return {}
    starts = "|".join(dict.fromkeys(map(_loose, (place.before for place in places))))
    afters = {place.after for place in places}
    end = re.escape(afters.pop()) if len(afters) == 1 else r"(?=\W|$)"
    word = r"\S+?" if end else r"\S+"
    return {key: rf"^\s*(?:{starts})(?P<{places[0].key}>{word}){end}"}


def _places(
    lines: Sequence[str], patterns: Sequence[re.Pattern[str]], files: Sequence[str]
) -> Iterator[_Place]:
    names = dict.fromkeys(files, "file")
    names |= dict.fromkeys(_folders(files), "package")
    results = 0
    for line in lines:
        if any(pattern.search(line) for pattern in patterns):
            results += 1
            continue
        for token in _TOKEN.finditer(line):
            text = token[0].removeprefix("./").rstrip("/.")
            key = names.get(text) or ("package" if _is_package(text, files) else "")
            if key:
                after = line[token.end() : token.end() + 1].strip()
                yield _Place(line[: token.start()].strip(), after, key, text, results)
                break


def _is_package(text: str, files: Sequence[str]) -> bool:
    """Whether a text ends with the folder of a test file, after other folders: a package's path."""
    return any(text.endswith(f"/{folder}") for folder in _folders(files))


def _folders(files: Sequence[str]) -> set[str]:
    return {str(PurePosixPath(path).parent) for path in files} - {"."}


def _loose(text: str) -> str:
    """A text with any blanks in it and after it."""
    if not text:
        return ""
    pieces = r"\s+".join(re.escape(piece) for piece in text.split())
    return pieces + (r"\s+" if text[-1].isalnum() else r"\s*")
