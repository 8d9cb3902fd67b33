"""The sources of compiled files, as the compiler notes them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from glob import escape
from pathlib import Path

_ELF = b"\x7fELF"
_SEPARATOR = re.compile(r"(?<!\\)\s+")
_TARGET = re.compile(r"(?<!\\):(?=\s|$)")


def noted_sources(root: Path, folder: str, path: str, content: bytes) -> tuple[str, ...]:
    """The sources of a compiled file that are in the workspace, relative to ``root``.

    Other files have none.

    C and C++ compilers write them as rules of make, with ``-MMD``: for ``built/gauge`` to
    ``built/gauge.d``, or to a file for each source, such as ``built/gauge-main.d``. Paths in them
    are relative to the folder of the build, which is usually that of the suite.
    """
    if not content.startswith(_ELF):
        return ()
    file = root / path
    stem = file.with_suffix("").name
    notes = [
        file.with_suffix(".d"),
        Path(f"{file}.d"),
        *sorted(file.parent.glob(f"{escape(stem)}-*.d")),
    ]
    found: dict[str, None] = {}
    for note in dict.fromkeys(notes):
        if note.is_file():
            text = note.read_text(encoding="utf-8", errors="replace")
            for named in _named(text):
                places = [(root / folder / named), (file.parent / named), (root / named)]
                place = next((each for each in places if each.is_file()), None)
                if place is not None and place.resolve().is_relative_to(root.resolve()):
                    found[place.resolve().relative_to(root.resolve()).as_posix()] = None
    return tuple(path for path in found)


def _named(text: str) -> Iterator[str]:
    """The prerequisites of all rules."""
    for line in text.replace("\\\n", " ").splitlines():
        rule = _TARGET.split(line, maxsplit=1)
        for word in _SEPARATOR.split(rule[1].strip()) if len(rule) > 1 else ():
            if word:
                yield word.replace("\\ ", " ").replace("$$", "$").replace("\\#", "#")


def is_compiled(file: Path) -> bool:
    """Whether a file is a compiled program."""
    try:
        with file.open("rb") as opened:
            return opened.read(len(_ELF)) == _ELF
    except OSError:
        return False


def text_of(root: Path, depends: Sequence[str], content: bytes) -> bytes:
    """The text of a test file: its content, or the main source of a compiled program."""
    if not content.startswith(_ELF) or not depends:
        return content
    try:
        return (root / depends[0]).read_bytes()
    except OSError:
        return b""
