"""The words and marks for outcomes in a launcher's output."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import msgspec

_USUAL: Mapping[str, Sequence[str]] = {
    "passed": ("ok", "pass", "passed", "success", "succeeded", "good", "fine", "✓", "✔", "√"),
    "failed": (
        "not ok",
        "fail",
        "failed",
        "failure",
        "error",
        "errored",
        "broken",
        "wrong",
        "bad",
        "✗",
        "✘",
        "✖",
        "×",
    ),
    "skipped": ("skip", "skipped", "ignored", "ignore", "pending", "todo", "disabled"),
}


class Vocabulary(msgspec.Struct, frozen=True):
    """The words for each outcome, in lower case."""

    by_outcome: Mapping[str, Sequence[str]]

    @property
    def meanings(self) -> dict[str, str]:
        """The outcome that each word means."""
        return {word: outcome for outcome, texts in self.by_outcome.items() for word in texts}

    def outcome(self, word: str) -> str:
        """The outcome that a word means; empty if it means none."""
        return self.meanings.get(word.lower(), "")

    @property
    def pattern(self) -> re.Pattern[str]:
        """A regular expression for any of the words."""
        every = "|".join(sorted(map(re.escape, self.meanings), key=len, reverse=True))
        return re.compile(rf"(?<![\w-])(?:{every})(?![\w-])", re.IGNORECASE)


def vocabulary(given: Mapping[str, Sequence[str]]) -> Vocabulary:
    """The ``given`` words of each outcome, or the usual ones."""
    lower = {outcome: tuple(word.lower() for word in texts) for outcome, texts in given.items()}
    return Vocabulary({outcome: lower.get(outcome) or usual for outcome, usual in _USUAL.items()})
