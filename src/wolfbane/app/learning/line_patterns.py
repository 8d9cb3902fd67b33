"""Learns patterns for the output lines that show the result of each test."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from wolfbane.app.learning.vocabulary import Vocabulary

_TOKEN = re.compile(r"[^\s()\[\],;\"'`]+")
_TIME = re.compile(r"(\d+(?:\.\d+)?)\s*(?:ms|s|sec|µs|us)\b")
_COLOUR = re.compile(r"\x1b\[[0-9;]*[A-Za-z]")


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


class LinePatterns(NamedTuple):
    """Regular expressions for each outcome; empty if no line shows a result."""

    passed: str
    failed: str
    skipped: str
    unseen: tuple[str, ...]
    """The outcomes that no line showed. Their patterns are like those of the other outcomes."""


def line_patterns(output: str, hints: Sequence[str], words: Vocabulary) -> Iterator[LinePatterns]:
    """Patterns for lines with an outcome and a name like one of the hints: first for names of the
    same form as the hint, then for any names, because one example must not decide.
    """
    lines = [_COLOUR.sub("", line).rstrip() for line in re.split(r"\r?\n|\r", output)]
    for hint in hints:
        for told in (told for line in lines for told in _told(line, hint, words)):
            yield _patterns(told, [*_alike(lines, told, words)], lines, words, wide=False)
            yield _patterns(told, [told], lines, words, wide=True)
            return


def _told(line: str, hint: str, vocabulary: Vocabulary) -> Iterator[ToldLine]:
    """The line with this test name, if it contains exactly one word for an outcome."""
    for match in re.finditer(rf"(?<!\w){re.escape(hint)}(?!\w)", line):
        spans = [match.span()]
        if " " not in hint:
            token = next(t for t in _TOKEN.finditer(line) if t.end() >= match.end())
            spans.append(
                (min(token.start(), match.start()), len(line[: token.end()].rstrip(":.,")))
            )
        for span in dict.fromkeys(spans):
            every = vocabulary.pattern.finditer(line)
            words = [w for w in every if not (span[0] <= w.start() < span[1])]
            if len(words) == 1:
                word = words[0]
                yield ToldLine(line, vocabulary.outcome(word[0]), span, word.span())


def _shape(text: str) -> str:
    """The common characters of names: letters, digits, and the marks between them."""
    return re.sub(r"\d+", "0", re.sub(r"[^\W\d_]+", "a", text))


def _alike(lines: Iterable[str], known: ToldLine, vocabulary: Vocabulary) -> Iterator[ToldLine]:
    """Lines with an outcome and a name of the same form: names with blanks have none."""
    if " " in known.text:
        yield known
        return
    shape = _shape(known.text)
    for line in lines:
        for token in _TOKEN.finditer(line):
            text = token[0].rstrip(":.,")
            every = vocabulary.pattern.finditer(line)
            words = [w for w in every if w.start() != token.start()]
            if _shape(text) == shape and len(words) == 1:
                word = words[0]
                span = token.start(), token.start() + len(text)
                yield ToldLine(line, vocabulary.outcome(word[0]), span, word.span())
                break


def _patterns(
    known: ToldLine, told: Sequence[ToldLine], lines: Sequence[str], vocabulary: Vocabulary,
    *, wide: bool,
) -> LinePatterns:  # fmt: skip
    """The patterns of each outcome, like the pattern of the known line if possible. ``wide``: for
    names with blanks, too.
    """
    frames = Counter((t.outcome, _frame(t)) for t in told)
    own = _frame(known)
    blanks = wide or " " in known.text or _others_go_on(known, lines, vocabulary)
    patterns: dict[str, str] = {}
    unseen = []
    for outcome, every in vocabulary.words.items():
        mine = [frame for (seen, frame), _ in frames.most_common() if seen == outcome]
        frame = own if own in mine or not mine else mine[0]
        words = {t.line[slice(*t.word)] for t in told if t.outcome == outcome}
        if not mine or blanks:  # of names with blanks no shape tells which other lines have one
            pattern = frame.pattern(every, blanks=blanks, outcome=outcome)
            others = [m["word"] for line in lines if (m := re.search(pattern, line))]
            words |= set(others)
        if not words:
            unseen.append(outcome)
        pattern = frame.pattern(words or every, blanks=blanks, outcome=outcome)
        patterns[outcome] = pattern.replace("(?P<word>", "(?:")
    return LinePatterns(patterns["passed"], patterns["failed"], patterns["skipped"], tuple(unseen))


def _others_go_on(known: ToldLine, lines: Sequence[str], vocabulary: Vocabulary) -> bool:
    """Whether other lines continue after the name in this line: names then contain blanks."""
    if known.name < known.word or known.name[1] != len(known.line):
        return False
    pattern = _frame(known).pattern(vocabulary.meanings, blanks=False, outcome="passed")
    more = [m.end() < len(line) for line in lines if (m := re.search(pattern, line))]
    return sum(more) * 3 > len(more)


class _Frame(NamedTuple):
    """The text around a name and an outcome, as parts of a regular expression."""

    before: str
    between: str
    after: str
    name_first: bool

    def pattern(self, words: Iterable[str], *, blanks: bool, outcome: str) -> str:
        ordered = sorted(words, key=lambda word: (-len(word), word))
        word = rf"(?P<word>(?i:{'|'.join(map(_escaped, ordered))}))(?![\w-])"
        name = "(?P<name>.+?)" if blanks or not self.name_first else r"(?P<name>\S+?)"
        if self.name_first:
            rest = self.after
            if not rest and outcome != "passed":
                rest = r"(?:\W+(?P<message>.*))?"
            return f"^{self.before}{name}{self.between}{word}{rest}"
        if not blanks:
            name = r"(?P<name>\S+)"
        rest = self.after or (r"\s*$" if blanks else "")
        return f"^{self.before}{word}{self.between}{name}{rest}"


def _frame(told: ToldLine) -> _Frame:
    first, last = sorted((told.name, told.word))
    line = told.line
    before, between, after = line[: first[0]], line[first[1] : last[0]], line[last[1] :]
    return _Frame(
        _before(before, told.text), _between(between), _after(after), told.name < told.word
    )


def _before(text: str, name: str) -> str:
    """Words that are also in the name differ from line to line."""
    pieces = set(re.findall(r"\w+", name))
    made = [
        r"\S+" if piece in pieces else _escaped(piece)
        for piece in re.split(r"(\w+)", text.lstrip())
    ]
    return rf"\s*{''.join(made)}"


def _between(text: str) -> str:
    """Marks stay unchanged. Words, which differ between lines, match any word."""
    if not re.search(r"[^\W_]", text):
        return _escaped(text)
    marks = re.match(r"\W*", text)
    end = re.search(r"\W*$", text)
    assert marks is not None and end is not None
    return f"{_escaped(marks[0])}.*{_escaped(end[0])}"


def _after(text: str) -> str:
    """The time, if the line contains one."""
    time = _TIME.search(text)
    if time is None:
        return ""
    return rf"{_escaped(text[: time.start()])}(?P<seconds>[\d.]+)"


def _escaped(text: str) -> str:
    """Text as a regular expression in which numbers and blanks may differ."""
    pieces = re.split(r"(\d+(?:\.\d+)?|\s+)", text)
    made = []
    for piece in pieces:
        if piece.isspace():
            made.append(r"\s+")
        elif piece[:1].isdigit():
            made.append(r"\d+(?:\.\d+)?")
        else:
            made.append(re.sub(r"([\\.^$*+?()\[\]{}|])", r"\\\1", piece))
    return "".join(made)
