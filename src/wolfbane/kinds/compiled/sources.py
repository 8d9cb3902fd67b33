"""The sources of a compiled test file: from compiler notes, debug information or class files.

Notes are the rules of make that C and C++ compilers write. For debug information, see DWARF 5,
section 3.1.1.
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterable, Iterator, Sequence
from glob import escape
from pathlib import Path, PurePosixPath
from typing import Any

from wolfbane.kinds.compiled.class_files import MAGIC as CLASS_FILE
from wolfbane.kinds.compiled.class_files import class_sources
from wolfbane.kinds.suite import Suite
from wolfbane.model import Test, TestFile

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
    sources: dict[str, None] = {}
    for name in named:
        source = next((top / name for top in tops if (top / name).is_file()), None)
        if source is not None and (real := source.resolve()).is_relative_to(top):
            sources[real.relative_to(top).as_posix()] = None
    return tuple(sources)


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


def whole_file(root: Path, suite: Suite, path: str, source: bytes) -> TestFile:
    """A file that is one test. A compiled one also depends on its sources."""
    lines = source.count(b"\n") + 1
    test = Test(suite=suite.name, kind=suite.kind, path=path, name="", line=1, end=lines)
    sources = compiled_sources(root, suite, path, content=source)
    return TestFile(
        path=path,
        suite=suite.name,
        kind=suite.kind,
        tests=(test,),
        divisible=False,
        depends=sources,
    )


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
        if len(rule) > 1:
            for path in _SEPARATOR.split(rule[1].strip()):
                if path:
                    yield path.replace("\\ ", " ").replace("$$", "$").replace("\\#", "#")


_LARGEST = 256 * 2**20
"""Bytes. Larger programs would take longer to read than to run."""


def debug_sources(content: bytes) -> list[str]:
    """The absolute paths of the sources that were compiled into a program.

    Headers are not among them: debug information does not name those of which only macros are
    used. Empty if the program has no debug information or pyelftools is not installed.
    """
    try:
        from elftools.elf.elffile import ELFFile  # an optional package
    except ImportError:
        return []
    if len(content) > _LARGEST:
        return []
    try:
        elf = ELFFile(io.BytesIO(content))
        units = elf.get_dwarf_info().iter_CUs() if elf.has_dwarf_info() else ()
        return list(dict.fromkeys(source for unit in units if (source := _source(unit))))
    except Exception:  # the library raises errors of many types for a damaged file
        return []


def _source(unit: Any) -> str:
    name, folder = (_text(unit, attribute) for attribute in ("DW_AT_name", "DW_AT_comp_dir"))
    if name:
        return str(PurePosixPath(folder) / name)
    return ""


def _text(unit: Any, name: str) -> str:
    attribute = unit.get_top_DIE().attributes.get(name)
    return attribute.value.decode(errors="replace") if attribute else ""
