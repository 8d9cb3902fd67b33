"""The sources of a compiled test file, from what its compiler left."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from wolfbane.kinds.compiled.class_files import MAGIC as CLASS_FILE
from wolfbane.kinds.compiled.class_files import class_sources
from wolfbane.kinds.compiled.compiler_notes import noted_sources
from wolfbane.kinds.compiled.debug_info import debug_sources
from wolfbane.kinds.suite import Suite

_ELF = b"\x7fELF"
_USUAL = ("src", "src/test/java", "src/main/java", "src/test/kotlin", "src/main/kotlin", "test", "")
"""Folders below which the packages of sources usually start, besides those of ``inputs``."""


def compiled_sources(root: Path, suite: Suite, path: str, content: bytes) -> tuple[str, ...]:
    """The sources of a compiled file that are in the workspace, relative to ``root``.

    The first one is its own, if that is known. Files that are not compiled have none. Programs have
    those that the compiler noted next to them, or those of their debug information; class files
    those that they and the classes that they use name.
    """
    file, top = root / path, root.resolve()
    tops: list[Path] = []
    named: Iterable[str] = ()
    if content.startswith(_ELF):
        tops = [root / suite.folder, file.parent, root]
        named = list(noted_sources(file)) or _own_first(file, debug_sources(content))
    elif content.startswith(CLASS_FILE):
        tops = [*_input_folders(root, suite), *(root / suite.folder / part for part in _USUAL)]
        named = class_sources(file)
    found: dict[str, None] = {}
    for name in named:
        source = next((top / name for top in tops if (top / name).is_file()), None)
        if source is not None and (real := source.resolve()).is_relative_to(top):
            found[real.relative_to(top).as_posix()] = None
    return tuple(found)


def _own_first(program: Path, sources: Sequence[str]) -> list[str]:
    """A program's own source usually has its name."""
    stem = program.with_suffix("").name
    return sorted(sources, key=lambda source: Path(source).stem != stem)


def _input_folders(root: Path, suite: Suite) -> Iterator[Path]:
    """The folders in which the globs of ``inputs`` start."""
    for glob in suite.inputs:
        yield root / glob.partition("*")[0].rpartition("/")[0]


def is_compiled(file: Path) -> bool:
    """Whether a file is a compiled program or class."""
    try:
        with file.open("rb") as opened:
            return opened.read(len(_ELF)) in (_ELF, CLASS_FILE)
    except OSError:
        return False


def source_text(root: Path, depends: Sequence[str], content: bytes) -> bytes:
    """The text of a test file: its content, or its own source if it is compiled."""
    if not content.startswith((_ELF, CLASS_FILE)) or not depends:
        return content
    try:
        return (root / depends[0]).read_bytes()
    except OSError:
        return b""
