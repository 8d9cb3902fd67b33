"""Learns patterns for the output lines that show the result of each test."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from wolfbane.kinds.bridge.learning.line_frames import (
    COLOUR,
    LineFrame,
    Names,
    Parts,
    ToldLine,
    frame_of,
    marks_before,
)
from wolfbane.kinds.bridge.learning.vocabulary import Vocabulary

_TOKEN = re.compile(r"[^\s()\[\],;\"'`]+")
_MOST = 4
"""Lines and words that are tried for a test: one line can have several words for an outcome."""


class LinePatterns(NamedTuple):
    """Regular expressions for each outcome; empty if no line shows a result."""

    passed: str
    failed: str
    skipped: str
    unseen: tuple[str, ...]
    """The outcomes that no line showed. Their patterns are like those of the other outcomes."""


def line_patterns(
    output: str, hints: Sequence[str], vocabulary: Vocabulary, root: Path, parts: Parts
) -> Iterator[LinePatterns]:
    """Patterns for lines with an outcome and a name like one of the hints: first for names of the
    same form as the hint, then for any names, because one example must not decide.

    ``root`` is the folder of the files that the lines may name. ``parts`` are known parts of them.
    """
    lines = [COLOUR.sub("", line).rstrip() for line in re.split(r"\r?\n|\r", output)]
    for hint in hints:
        every = [told for line in lines for told in _told(line, hint, vocabulary)]
        for told in every[:_MOST]:
            for names in Names:
                yield _patterns(told, lines, vocabulary, names=names, root=root, parts=parts)
        if every:
            return


def _told(line: str, hint: str, vocabulary: Vocabulary) -> Iterator[ToldLine]:
    """The line with this test name, for each of its words for an outcome."""
    for match in re.finditer(rf"(?<!\w){re.escape(hint)}(?!\w)", line):
        spans = [match.span()]
        if " " not in hint:
            token = next((t for t in _TOKEN.finditer(line) if t.end() >= match.end()), match)
            end = len(line[: token.end()].rstrip(":.,"))
            spans.append((min(token.start(), match.start()), max(end, match.end())))
        for span in dict.fromkeys(spans):
            yield from _with_words(line, span, vocabulary)


def _with_words(line: str, name: tuple[int, int], vocabulary: Vocabulary) -> Iterator[ToldLine]:
    for word in vocabulary.pattern.finditer(line):
        if not name[0] <= word.start() < name[1]:
            yield ToldLine(
                line=line, outcome=vocabulary.outcome(word[0]), name=name, word=word.span()
            )


def _shape(text: str) -> re.Pattern[str]:
    """Names with the same marks between letters and digits."""
    shape = ""
    for letters, digits, mark in re.findall(r"([^\W\d_]+)|(\d+)|(.)", text):
        shape += re.escape(mark)
        if letters:
            shape += r"[^\W\d_]+"
        if digits:
            shape += r"\d+"
    return re.compile(rf"(?<!\w){shape}(?!\w)")


def _alike(lines: Iterable[str], known: ToldLine, vocabulary: Vocabulary) -> Iterator[ToldLine]:
    """Lines with an outcome and a name of the same form; with blanks in it, the same name."""
    if " " not in known.text:
        shape = _shape(known.text)
    else:
        shape = re.compile(re.escape(known.text))
    for line in lines:
        for match in shape.finditer(line):
            told = list(_with_words(line, match.span(), vocabulary))
            if told and not vocabulary.outcome(match[0]):
                yield told[0]
                break


def _patterns(
    known: ToldLine,
    lines: Sequence[str],
    vocabulary: Vocabulary,
    names: Names,
    root: Path,
    parts: Parts,
) -> LinePatterns:
    """The patterns of each outcome, like the pattern of the known line if possible."""
    own = frame_of(known, root, parts)
    if parts.reason:
        own = own._replace(before_reason=marks_before(parts.reason, lines))
    if names is Names.WITHOUT_BLANKS and " " in known.text:
        names = Names.WITH_BLANKS
    any_word = re.compile(own.pattern(vocabulary.meanings, names=names, outcome="failed"))
    others = [line for line in lines if not any_word.search(line)]
    patterns: dict[str, str] = {}
    unseen = []
    for outcome, every in vocabulary.by_outcome.items():
        frame, outcome_words = own, _words(own, every, lines, names=names, outcome=outcome)
        if not outcome_words:  # its lines may have another form
            frames = Counter(
                frame_of(told, root, parts)
                for told in _alike(others, known, vocabulary)
                if told.outcome == outcome
            )
            if frames:
                frame = frames.most_common(1)[0][0]
            else:
                frame = own
            outcome_words = _words(frame, every, lines, names=names, outcome=outcome)
        if not outcome_words:
            unseen.append(outcome)
        pattern = frame.pattern(outcome_words or every, names=names, outcome=outcome)
        patterns[outcome] = pattern.replace("(?P<word>", "(?:")
    return LinePatterns(
        passed=patterns["passed"],
        failed=patterns["failed"],
        skipped=patterns["skipped"],
        unseen=tuple(unseen),
    )


def _words(
    frame: LineFrame, every: Sequence[str], lines: Iterable[str], names: Names, outcome: str
) -> set[str]:
    """The words of an outcome in the lines that have this frame."""
    pattern = re.compile(frame.pattern(every, names=names, outcome=outcome))
    return {match["word"] for line in lines if (match := pattern.search(line))}
