"""The errors that stop a command, with their messages and exit codes."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple


class Problem(NamedTuple):
    """One problem: what is wrong, where it is, and how to fix it."""

    message: str
    file: str = ""
    line: int = 0
    hint: str = ""

    def __str__(self) -> str:
        line = ""
        if self.line:
            line = f":{self.line}"
        location = ""
        if self.file or line:
            location = f"{self.file}{line}: "
        return f"{location}{self.message}" + (f"; {self.hint}" if self.hint else "")


class WolfbaneError(Exception):
    """The base class of all errors that users see as plain text."""

    exit_code = 2


class InputError(WolfbaneError):
    """The command line or a file is wrong. Contains all problems that were found."""

    def __init__(self, *problems: Problem | str) -> None:
        self.problems = tuple(Problem(p) if isinstance(p, str) else p for p in problems)
        super().__init__("\n".join(str(problem) for problem in self.problems))


class BlockedError(WolfbaneError):
    """Something outside Wolfbane that the command needs is not available."""

    exit_code = 4


class ExpressionError(InputError):
    """A selection expression that cannot be parsed. The text marks the position."""

    def __init__(self, message: str, text: str, position: int) -> None:
        self.text, self.position = text, position
        pointer = f"  {text}\n  {' ' * position}^"
        super().__init__(f"{message}\n{pointer}")


class NothingChosen(WolfbaneError):
    """No tests are left to run. ``help_lines`` explain why, and what would match."""

    exit_code = 3

    def __init__(self, message: str, help_lines: Iterable[str] = ()) -> None:
        self.help_lines = tuple(help_lines)
        super().__init__("\n".join((message, *(f"  {line}" for line in self.help_lines))))


def nearest(word: str, candidates: Iterable[str]) -> str | None:
    """The known word that is most similar to ``word``; None if none is similar."""
    import difflib

    known = {candidate.lower(): candidate for candidate in candidates}
    close = difflib.get_close_matches(word.lower(), known, n=1, cutoff=0.6)
    if close:
        return known[close[0]]
    return None


def did_you_mean(word: str, candidates: Iterable[str]) -> str:
    """``did you mean X?``; otherwise the existing words (if there are few), or nothing."""
    known = sorted(set(candidates))
    close = nearest(word, known)
    if close:
        return f"did you mean {close}?"
    if 0 < len(known) <= 12:
        return f"known: {', '.join(known)}"
    return ""
