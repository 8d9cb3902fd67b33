"""Command lines that need a shell: builds the shell's arguments so that test names reach the
launcher.
"""

from __future__ import annotations

import re
import shlex
from glob import glob
from pathlib import Path

_WORD = re.compile(
    r"""(?P<word>(?:[^\s'"\\&|;<>]|\\.|'[^']*'|"(?:[^"\\]|\\.)*")+)"""
    r"|(?P<mark>&&|\|\||\d*[<>]+&?\d*|[&|;])"
)
_QUOTED = re.compile(r"""'[^']*'|"(?:[^"\\]|\\.)*"|\\.""")
_ENDS = ("&&", "||", ";")
_VARIABLE = re.compile(r"\w+=")
_OPEN = re.compile(r"\$[\w({]|`")
"""The characters that a shell expands outside single quotes."""


class NeedsScript(Exception):
    """Raised for a command line that must be put into a script. The text gives the reason."""


def split(line: str, folder: Path) -> list[str]:
    """The arguments of a line, with the files that its globs match in a folder.

    Raises ValueError if quotes do not match.
    """
    shlex.split(line)
    arguments: list[str] = []
    for piece in _WORD.finditer(line):
        plain = "".join(shlex.split(piece[0]))
        is_glob = re.search(r"[*?[]", _QUOTED.sub("", piece[0]))
        files = sorted(glob(plain, root_dir=folder)) if is_glob else []  # noqa: PTH207
        arguments += files or [plain]
    return arguments


def needs_shell(line: str) -> bool:
    """Whether a line has ``&&``, pipes, variables or other syntax that only a shell understands."""
    pieces = [*_WORD.finditer(line)]
    first = ""
    if pieces:
        first = pieces[0]["word"] or ""
    return bool(_VARIABLE.match(first)) or any(p["mark"] or _is_open(p["word"]) for p in pieces)


def build_before(line: str) -> tuple[str, str] | None:
    """The commands before the last ``&&`` of a line, and the last command; None if there is no
    ``&&``, or if the last command needs a shell.

    >>> build_before("make -s && ./check --only high")
    ('make -s', './check --only high')
    """
    marks = [piece for piece in _WORD.finditer(line) if piece["mark"]]
    if not marks or any(mark["mark"] not in ("&&", ";") for mark in marks):
        return None
    last = marks[-1]
    before, after = line[: last.start()].strip(), line[last.end() :].strip()
    if last["mark"] != "&&" or not before or not after or needs_shell(after):
        return None
    return before, after


def through_shell(line: str, folder: Path) -> list[str]:
    """``sh -c`` with the line up to its last command, whose words are arguments of the shell.

    Names then reach the launcher unchanged: ``make && ./run --only x`` runs as ``sh -c 'make &&
    "$@"' sh ./run --only x``. Raises NeedsScript if that is not possible.
    """
    pieces = [*_WORD.finditer(line)]
    last = max((n for n, p in enumerate(pieces) if p["mark"] in _ENDS), default=-1) + 1
    first = last
    while first < len(pieces) and pieces[first]["word"] and _VARIABLE.match(pieces[first]["word"]):
        first += 1
    end = first
    while end < len(pieces) and not pieces[end]["mark"]:
        end += 1
    command, rest = pieces[first:end], pieces[end:]
    if not command:
        raise NeedsScript("the last command is empty")
    if any(p["mark"] in ("|", "&") for p in rest):
        raise NeedsScript(f"the exit code of the command before '{rest[0]['mark']}' would be lost")
    if variable := next((p["word"] for p in command if _is_open(p["word"])), ""):
        raise NeedsScript(f"the command that must get the test names contains '{variable}'")
    before, after = line[: command[0].start()], line[command[-1].end() :]
    arguments = split(line[command[0].start() : command[-1].end()], folder)
    return ["sh", "-c", f'{before}"$@"{after}'.strip(), "sh", *arguments]


def _is_open(word: str) -> bool:
    return bool(_OPEN.search(re.sub(r"'[^']*'|\\.", "", word)))
