"""Finds the test names of a report in the sources, and patterns for the lines that contain them."""

from __future__ import annotations

import itertools
import os
import re
from collections import Counter, defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from fnmatch import fnmatch
from pathlib import Path

import msgspec

from wolfbane.kinds.bridge.outline import Item, Patterns, outline
from wolfbane.kinds.registry import KINDS, find_kind

_LARGEST = 1 << 20
SAMPLE = 300
_SHORTEST = 3
_SEPARATORS = re.compile(r"::|: ?| [->/»] |[./#>|]")
_TAGS = (
    r"""(?i:tags?|labels?|marks?|category|categories)\W+["'](?P<tag>[\w-]+)["']""",
    r"""(?i:\b(?:tags?|labels?))\s*[:=]\s*["']?(?P<tag>[\w-]+)""",
    r"""@(?P<key>\w+)\(\s*["'](?P<value>[^"']+)["']\s*\)""",
)
"""Common forms of tags: a word before a text or before a colon, or an annotation with a text."""
_ABOVE = 3
_FEW = 50
_SURE = 0.8
_QUOTES = frozenset("\"'`")
_FORMS = 4
"""Maximum number of different prefixes of a declaration in one pattern."""


class SourceTests(msgspec.Struct, frozen=True):
    """Files, patterns for their lines, and the tests that these find.

    If a command lists them, ``listing`` is this command, and ``pattern`` is for its lines.
    ``query`` is a grammar and a query for it.
    """

    glob: str
    patterns: Patterns
    tests: Sequence[tuple[str, Item]]
    """The file of each test, relative to the folder, and the test."""
    listing: Sequence[str] = ()
    pattern: str = ""
    query: tuple[str, str] | None = None

    def hits(self, names: Mapping[str, str]) -> set[str]:
        """The names of a report whose last parts match these tests."""
        return {names[item.name] for _, item in self.tests if item.name in names}


def suffixes(name: str) -> list[str]:
    """A name and its last parts: for ``tides.Tide.high`` also ``Tide.high`` and ``high``."""
    parts = [name[match.end() :] for match in _SEPARATORS.finditer(name)]
    return [name, *(p for p in parts if len(p) >= _SHORTEST and re.search(r"[^\W\d]", p))]


def prefixes(name: str) -> list[str]:
    """The words before the last part of a name, the closest first."""
    return [piece for piece in reversed(_SEPARATORS.split(name)[:-1]) if piece]


def ends_of(names: Sequence[str]) -> dict[str, str]:
    """The possible source names for the names of a report: the full names and their last parts."""
    return {end: name for name in reversed(names[:SAMPLE]) for end in suffixes(name)}


def find_lines(texts: Mapping[str, str], ends: Mapping[str, str]) -> SourceTests | None:
    """The patterns that find most of the names and little else; None if no file has the names."""
    places, names = places_of(texts, ends), list(dict.fromkeys(ends.values()))
    best: tuple[float, SourceTests] | None = None
    for ending in sorted({Path(path).suffix for path in places}):
        mine = {path: text for path, text in texts.items() if Path(path).suffix == ending}
        test = _pattern(mine, places, ends)
        if not test:
            continue
        group = _group_pattern(mine, names, test)
        patterns = _found(mine, ending, Patterns(test, group, _tag_pattern(mine, test)))
        score = 2 * len(patterns.hits(ends)) / (len(names) + len(patterns.tests))
        if best is None or score > best[0]:
            best = score, patterns
    if best:
        return best[1]
    return None


def texts_of(root: Path, skip: Collection[str]) -> Iterator[tuple[str, str]]:
    """The text files of a folder by path, without the skipped ones."""
    apart = {".git", "__pycache__", *(n for kind in KINDS for n in find_kind(kind).tool_folders)}
    for folder, folders, files in os.walk(root):
        folders[:] = [name for name in folders if name not in apart and not name.startswith(".")]
        for name in sorted(files):
            file = Path(folder, name)
            path = file.relative_to(root).as_posix()
            if path in skip or file.is_symlink() or file.stat().st_size > _LARGEST:
                continue
            try:
                yield path, file.read_text(encoding="utf-8")
            except (OSError, UnicodeDecodeError):
                continue


Places = Mapping[str, Sequence[tuple[str, str, str, str]]]
"""By path: the name, the text before it on its line, the character after it, and the rest of the
line.
"""


def places_of(texts: Mapping[str, str], ends: Mapping[str, str]) -> Places:
    """The places of the report's names in the sources."""
    places: dict[str, list[tuple[str, str, str, str]]] = defaultdict(list)
    for path, text in texts.items():
        here = [end for end in ends if end in text]
        if here:
            for line in text.splitlines():
                for end in here:
                    for match in re.finditer(rf"(?<![^\W_]){re.escape(end)}(?!\w)", line):
                        rest = line[match.end() :]
                        places[path].append((end, line[: match.start()].strip(), rest[:1], rest))
    return places


def _pattern(texts: Mapping[str, str], places: Places, ends: Mapping[str, str]) -> str:
    """A regular expression for lines that declare a test: text before its name, and the name."""
    covered: dict[tuple[str, bool], set[str]] = defaultdict(set)
    rests: dict[str, list[str]] = defaultdict(list)
    for path in texts:
        for end, before, after, rest in places.get(path, ()):
            quoted = after in _QUOTES and before[-1:] == after
            if quoted:
                text = before[: -len(after)]
            else:
                text = before
            covered[text, quoted].add(end)
            rests[text].append(rest[len(after) :] if quoted else rest)
    forms: list[str] = []
    seen: set[str] = set()
    quoted = False
    for form, names in sorted(covered.items(), key=lambda each: -len({ends[e] for e in each[1]})):
        new = {ends[end] for end in names} - {ends[end] for end in seen}
        many = len(new) > 1 or len(ends) < _FEW
        if not new or len(forms) >= _FORMS or (forms and not many):
            continue
        if not form[0] and (forms or not _tail(rests[""])):  # only the text after names
            continue
        if forms and (form[1] != quoted or not _is_sure(form, texts, ends)):
            continue
        forms.append(form[0])
        quoted, seen = form[1], seen | names
        if not form[0]:
            break
    tail = _tail([rest for text in forms for rest in rests[text]])
    if forms:
        return _declaration(forms, seen, tail, quoted=quoted)
    return ""


def _is_sure(form: tuple[str, bool], texts: Mapping[str, str], ends: Mapping[str, str]) -> bool:
    """Whether most texts after this prefix are names of tests."""
    pattern = re.compile(_declaration([form[0]], set(ends), "", quoted=form[1]))
    matches = [
        match["name"].strip() in ends
        for text in texts.values()
        for line in text.splitlines()
        if (match := pattern.search(line))
    ]
    return sum(matches) >= len(matches) * _SURE


def _tail(rests: Sequence[str]) -> str:
    """The text that follows the names on all their lines, or the end of the line."""
    if not any(rest.strip() for rest in rests):
        return r"\s*$"
    common = re.match(r"\W*", common_start(rests))
    if common and common[0].strip():
        return _loose(common[0].strip())
    return ""


def _declaration(forms: Sequence[str], names: set[str], tail: str, *, quoted: bool) -> str:
    starts = "|".join(dict.fromkeys(map(_loose, forms)))
    if quoted:
        after = ""
        if not any(forms):
            after = rf"\s*{tail}"
        return rf"""^\s*(?:{starts})(?P<quote>["'`])(?P<name>.+?)(?P=quote){after}"""
    word = r"[^\s\"'(){}]+"
    if all(re.fullmatch(r"\w+", name) for name in names):
        word = r"\w+"
    if any(" " in name for name in names):
        if tail:
            return rf"^\s*(?:{starts})(?P<name>.+?)\s*{tail}"
        word = r".*[\w)\]]"
    start = common_start(sorted(names))
    if not any(forms):
        end = common_start([name[::-1] for name in names])[::-1]
        if word == r"\w+" and len(names) > 1 and len(end) >= _SHORTEST:
            word = rf"\w*{end}"
        return rf"^(?P<name>{word})\s*{tail}"
    if word == r"\w+" and len(names) > 1 and len(start) >= _SHORTEST:
        word = rf"{start}\w*"
    return rf"^\s*(?:{starts})(?P<name>{word})"


def _loose(before: str) -> str:
    """The text before a name, with any blanks."""
    if not before:
        return ""
    text = r"\s+".join(re.escape(piece) for piece in re.split(r"\s+", before))
    if before[-1:] == "_":  # a prefix of every name
        return text
    return text + (r"\s+" if before[-1:].isalnum() else r"\s*")


def _group_pattern(texts: Mapping[str, str], names: Sequence[str], test: str) -> str:
    """A regular expression for lines above tests that declare the first part of their names."""
    tests = re.compile(test)
    groups: dict[str, set[str]] = defaultdict(set)
    for name in names:
        for end in suffixes(name)[-1:]:
            groups[end] |= set(prefixes(name))
    covered: Counter[tuple[str, str]] = Counter()
    for text in texts.values():
        last: dict[str, tuple[str, str]] = {}
        for line in text.splitlines():
            match = tests.search(line)
            if match:
                for group in groups.get(match["name"], ()):
                    if group in last:
                        covered[last[group]] += 1
                continue
            for group in {g for many in groups.values() for g in many}:
                at = re.search(rf"(?<!\w){re.escape(group)}(?!\w)", line)
                if at and line[: at.start()].strip():
                    after = line[at.end() : at.end() + 1]
                    last[group] = line[: at.start()].strip(), after
    if not covered:
        return ""
    before, after = covered.most_common(1)[0][0]
    word = r"\w+"
    if after in "\"'`" and after:
        word = f"[^{after}]+"
    return rf"^\s*{_loose(before)}(?P<name>{word})"


def _tag_pattern(texts: Mapping[str, str], test: str) -> str:
    """The form of tags on the lines of tests or just above them; empty if there are none."""
    tests, counts = re.compile(test), Counter[str]()
    for text in texts.values():
        lines = text.splitlines()
        for number, line in enumerate(lines):
            if tests.search(line):
                beside = itertools.takewhile(
                    lambda above: above.strip() and not tests.search(above),
                    reversed(lines[max(0, number - _ABOVE) : number]),
                )
                near = [line, *beside]
                counts.update(s for s in _TAGS if any(re.search(s, each) for each in near))
    if counts:
        return max(_TAGS, key=lambda shape: counts[shape])
    return ""


def _found(texts: Mapping[str, str], ending: str, patterns: Patterns) -> SourceTests:
    tests = [
        (path, item)
        for path, text in texts.items()
        for item in outline(text, patterns)
        if item.is_test
    ]
    paths = dict.fromkeys(path for path, _ in tests)
    return SourceTests(glob_of([*paths], ending), patterns, tests)


def glob_of(paths: Sequence[str], ending: str) -> str:
    """A glob for the names of files: as specific as their common parts allow."""
    if not paths:
        return f"*{ending}"
    names = [Path(path).name for path in paths]
    start = re.sub(r"[^\W_]*$", "", common_start(names))
    end = common_start([name[::-1] for name in names])[::-1]
    end = re.sub(r"^[^\W_]*", "", end)
    for glob in (f"{start}*{end}", f"*{end}", f"*{ending}"):
        if len(names) > 1 and all(fnmatch(name, glob) for name in names):
            return glob
    return f"*{ending}"


def common_start(texts: Sequence[str]) -> str:
    """The common prefix of all texts."""
    first, last = min(texts), max(texts)
    same = itertools.takewhile(lambda pair: pair[0] == pair[1], zip(first, last, strict=False))
    return "".join(a for a, _ in same)
