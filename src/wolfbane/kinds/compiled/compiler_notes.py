"""Reads the sources of a program from the rules of make that C and C++ compilers write."""

from __future__ import annotations

import re
from collections.abc import Iterator
from glob import escape
from pathlib import Path

_SEPARATOR = re.compile(r"(?<!\\)\s+")
_TARGET = re.compile(r"(?<!\\):(?=\s|$)")


def noted_sources(program: Path) -> Iterator[str]:
    """The paths that the compiler noted, as they stand there.

    With ``-MMD``, a compiler writes them for ``built/gauge`` to ``built/gauge.d``, or to a file for
    each source, such as ``built/gauge-main.d``.
    """
    stem = program.with_suffix("").name
    notes = [
        program.with_suffix(".d"),
        Path(f"{program}.d"),
        *sorted(program.parent.glob(f"{escape(stem)}-*.d")),
    ]
    for note in dict.fromkeys(notes):
        if note.is_file():
            yield from _prerequisites(note.read_text(encoding="utf-8", errors="replace"))


def _prerequisites(text: str) -> Iterator[str]:
    for line in text.replace("\\\n", " ").splitlines():
        rule = _TARGET.split(line, maxsplit=1)
        for path in _SEPARATOR.split(rule[1].strip()) if len(rule) > 1 else ():
            if path:
                yield path.replace("\\ ", " ").replace("$$", "$").replace("\\#", "#")
