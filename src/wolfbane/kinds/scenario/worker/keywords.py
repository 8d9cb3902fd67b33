"""The keywords of plain-language feature files, by language, from ``feature_words.json``.

Runs on Python 3.8 and later without other modules, like the reader.
"""

from __future__ import annotations

import difflib
import json
import re
from functools import lru_cache
from pathlib import Path
from typing import Any

ENGLISH = "en"
STEPS = ("given", "when", "then", "and")
HEADINGS = ("feature", "rule", "background", "outline", "scenario", "examples")
EVERY_LANGUAGE = "*"
"""A step may start with a star instead of a keyword, in any language."""
KEYWORDS: dict[str, dict[str, Any]] = json.loads(
    Path(__file__).with_name("feature_words.json").read_text(encoding="utf-8")
)
"""The keywords of each kind of line, by language.

``joined``: the text follows a step's keyword directly, as after an apostrophe.
"""


class Words:
    """The keywords of one language."""

    def __init__(self, language: str) -> None:
        translations = KEYWORDS[language]
        self.headings = {word: kind for kind in HEADINGS for word in translations[kind]}
        # Where a word is in several lists, the first counts.
        self.steps = {word: kind for kind in reversed(STEPS) for word in translations[kind]}
        self.steps[EVERY_LANGUAGE] = "and"
        joined = bool(translations.get("joined"))
        keywords = sorted(self.steps, key=len, reverse=True)
        self._heading = re.compile(f"({_one_of(self.headings)})\\s*[:\uff1a]\\s*(.*)")
        self._step = re.compile(
            "|".join(
                f"({_any_apostrophe(word)}){'' if joined or word[-1] == chr(39) else '(?=[ ]|$)'}"
                for word in keywords
            )
        )
        self._in_order = keywords

    def heading(self, line: str) -> tuple[str, str, str] | None:
        """The kind, the keyword and the name of a heading."""
        match = self._heading.match(line)
        if match:
            return (self.headings[match[1]], match[1], match[2].strip())
        return None

    def step(self, line: str) -> tuple[str, str, str] | None:
        """The kind, the keyword and the text of a step."""
        match = self._step.match(line)
        if match is None or match.lastindex is None:
            return None
        word = self._in_order[match.lastindex - 1]
        return self.steps[word], match[0], line[match.end() :].strip()

    def nearest_heading(self, line: str) -> str:
        """The heading that a line with a colon probably means, or nothing."""
        head, colon, _ = line.partition(":")
        if colon:
            close = difflib.get_close_matches(head, self.headings, 1, 0.75)
        else:
            close = []
        return close[0] if close else ""

    def nearest_step(self, line: str, cutoff: float) -> str:
        """The step keyword that a line probably means, or nothing."""
        close = difflib.get_close_matches(line.split(" ", 1)[0], self.steps, 1, cutoff)
        return close[0] if close else ""


@lru_cache(maxsize=None)
def words_of(language: str) -> Words:
    """The keywords of a language, created once."""
    return Words(language)


def _one_of(keywords: Any) -> str:
    return "|".join(re.escape(word) for word in sorted(keywords, key=len, reverse=True))


def _any_apostrophe(word: str) -> str:
    return re.escape(word).replace("'", "['\u2019]")
