"""Reads the sources of a program from its debug information (DWARF 5, section 3.1.1)."""

from __future__ import annotations

import io
from pathlib import PurePosixPath
from typing import Any

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
    return str(PurePosixPath(folder) / name) if name else ""


def _text(unit: Any, name: str) -> str:
    attribute = unit.get_top_DIE().attributes.get(name)
    return attribute.value.decode(errors="replace") if attribute else ""
