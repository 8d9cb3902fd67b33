"""The text around the name and the outcome of a test in a line, as a regular expression."""

from __future__ import annotations

import re
from collections.abc import Iterable
from enum import Enum
from pathlib import Path
from typing import NamedTuple

COLOUR = re.compile(r"\x1b\[[0-9;]*[A-Za-z]")
_TIME = re.compile(r"(\d+(?:\.\d+)?)\s*(?P<unit>ms|s|sec)\b")
_FILE = re.compile(r"(?P<file>(?:[\w.@+-]*/)*[\w@+-]+\.\w+)(?P<line>:\d+)?")
_OPENING, _CLOSING = ("(", "[", "<", "{"), (")", "]", ">", "}")
_PIECE = re.compile(
    r"(?P<number>\d+(?:\.\d+)?)|(?P<blank>\s+)|(?P<row>(?P<mark>[^\w\s])(?P=mark){2,})|.", re.DOTALL
)
_BRACKETS = re.compile(r"(?P<open_text>\s+(?P<open>[(\[]))(?P<inner>[^()\[\]]+)(?P<close>[)\]])\s*")
_MARKS = re.compile(r"\s*[^\w\s]+\s*")
_REASON = r"(?:\s*(?:\s[-–—]+|:)\s+(?P<message>.*))?\s*$"
"""A reason after a dash or a colon."""


class Names(Enum):
    """The names that a pattern matches."""

    WITHOUT_BLANKS = "without blanks"
    WITH_BLANKS = "with blanks"
    BEFORE_REASONS = "with blanks, before a dash or a colon"


class ToldLine(NamedTuple):
    """An output line with the result of a test: the positions of the test name and the outcome
    word.
    """

    line: str
    outcome: str
    name: tuple[int, int]
    word: tuple[int, int]

    @property
    def text(self) -> str:
        """The test's name in this line."""
        return self.line[slice(*self.name)]


class LineFrame(NamedTuple):
    """The text around a name and an outcome, as parts of a regular expression."""

    before: str
    between: str
    after: str
    name_first: bool
    before_reason: str = ""
    """The marks between the name or the word and the reason of a failure, if they are known."""

    def pattern(self, outcome_words: Iterable[str], *, names: Names, outcome: str) -> str:
        """The pattern for lines with one of these words, and names of this kind."""
        ordered = sorted(outcome_words, key=lambda word: (-len(word), word))
        word = rf"(?P<word>(?i:{'|'.join(map(_escaped, ordered))}))(?![\w-])"
        blanks = names is not Names.WITHOUT_BLANKS
        name = r"(?P<name>\S+?)"
        if blanks:
            name = "(?P<name>.+?)"
        if self.name_first:
            rest = self.after
            if self.before_reason and outcome == "failed":
                rest = rf"(?:.*?{self.before_reason}(?P<message>.*))?"
            elif not rest and outcome != "passed":
                rest = r"(?:\W+(?P<message>.*))?"
            return f"^{self.before}{name}{self.between}{word}{rest}"
        rest = self.after
        if self.before_reason and outcome == "failed":
            rest = rf"(?:{self.before_reason}(?P<message>.*))?\s*$"
        elif not blanks:
            rest = rest or r"(?=[:,]?(?:\s|$))"
            if not self.after and outcome != "passed":
                rest += r"(?:[:,]?\s+(?:\W+\s+)?(?P<message>.*))?"
        elif not rest:
            rest = r"\s*$"
            if names is Names.BEFORE_REASONS:
                rest = _REASON
        return f"^{self.before}{word}{self.between}{name}{rest}"


class Parts(NamedTuple):
    """Parts of the lines that the user has marked: a group, and the reason of a failure."""

    group: str = ""
    reason: str = ""


def frame_of(told: ToldLine, root: Path, parts: Parts) -> LineFrame:
    """The frame of a line. ``root`` is the folder of the files that it may name."""
    first, last = sorted((told.name, told.word))
    line = told.line
    before, between, after = line[: first[0]], line[first[1] : last[0]], line[last[1] :]
    end = _after(after, root)
    if not end and told.word < told.name and _MARKS.fullmatch(after):
        end = rf"{_escaped(after.rstrip())}\s*$"
    made = [rf"\s*{_around(before.lstrip(), told.text, root)}", _between(between), end]
    for position, text in enumerate((before.lstrip(), between, after) if parts.group else ()):
        start, group, end = text.partition(parts.group)
        if group:
            opening = ""
            if position == 0:
                opening = r"\s*"
            closing = ""
            if position == 2:
                closing = r"\s*$"
            inner = "."
            if re.match(r"[^\w\s]", end):
                inner = rf"[^\{end[0]}]"
            made[position] = (
                f"{opening}{_escaped(start)}(?P<group>{inner}+?){_escaped(end)}{closing}"
            )
            break
    for part in ("(?P<file>", "(?P<group>"):
        if sum(part in each for each in made) > 1:  # a pattern has each group once
            made[2] = ""
    return LineFrame(
        before=made[0], between=made[1], after=made[2], name_first=told.name < told.word
    )


def marks_before(reason: str, lines: Iterable[str]) -> str:
    """The marks before a reason in the lines, as a regular expression; empty if there are none."""
    for line in lines:
        before, mark, _ = line.partition(reason)
        marks = re.search(r"\W+$", before)
        if mark and marks:
            return _escaped(marks[0])
    return ""


def _around(text: str, name: str, root: Path) -> str:
    """The text before a name. A file stays one; words of the name differ from line to line."""
    file = next((m for m in _FILE.finditer(text) if (root / m["file"]).is_file()), None)
    if file:
        line = ""
        if file["line"]:
            line = r"(?::(?P<line>\d+))?"
        before, after = text[: file.start()], text[file.end() :]
        return (
            f"{_around_words(before, name)}(?P<file>[^\\s:|,;()]+){line}"
            f"{_around_words(after, name)}"
        )
    return _around_words(text, name)


def _around_words(text: str, name: str) -> str:
    pieces = set(re.findall(r"\w+", name))
    made = [r"\S+" if piece in pieces else _escaped(piece) for piece in re.split(r"(\w+)", text)]
    return "".join(made)


def _between(text: str) -> str:
    """Marks stay unchanged. Words, which differ between lines, match any word."""
    if not re.search(r"[^\W_]", text):
        return _escaped(text)
    marks = re.match(r"\W*", text)
    end = re.search(r"\W*$", text)
    assert marks is not None and end is not None
    return f"{_escaped(marks[0])}.*{_escaped(end[0])}"


def _after(text: str, root: Path) -> str:
    """The time, if the line contains one, or the group or the file in brackets at its end."""
    time = _TIME.search(text)
    if time is not None:
        unit = "seconds"
        if time["unit"] == "ms":
            unit = "milliseconds"
        return rf"{_escaped(text[: time.start()])}(?P<{unit}>[\d.]+)"
    brackets = _BRACKETS.fullmatch(text)
    if brackets is None:
        return ""
    inner = _around(brackets["inner"], brackets["inner"], root)
    if "(?P<file>" not in inner:
        inner = r"(?P<group>[^\[\]]*)"
        if brackets["open"] == "(":
            inner = "(?P<group>[^()]*)"
    return rf"{_escaped(brackets['open_text'])}{inner}{_literal(brackets['close'])}\s*$"


def _escaped(text: str) -> str:
    """Text as a regular expression in which numbers, blanks and rows of a mark may differ."""
    return _PIECE.sub(_loose, text)


def _loose(piece: re.Match[str]) -> str:
    if piece["number"]:
        return r"\d+(?:\.\d+)?"
    if piece["blank"]:
        text, start, end = piece.string, piece.start(), piece.end()
        in_brackets = text[:start][-1:] in _OPENING or text[end : end + 1] in _CLOSING
        if in_brackets:
            return r"\s*"
        return r"\s+"
    if piece["row"]:
        return f"{_literal(piece['row'][0])}+"
    return _literal(piece[0])


def _literal(text: str) -> str:
    return re.sub(r"([\\.^$*+?()\[\]{}|])", r"\\\1", text)
