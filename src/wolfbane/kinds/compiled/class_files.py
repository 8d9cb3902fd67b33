"""Reads the source of a class file, and the classes that it uses.

The format is section 4 of the Java Virtual Machine Specification.
"""

from __future__ import annotations

import struct
from functools import lru_cache
from pathlib import Path

from msgspec import Struct

MAGIC = b"\xca\xfe\xba\xbe"
_UTF8, _LONG, _DOUBLE, _CLASS = 1, 5, 6, 7
_PRIVATE = 0x0002
_SIZES = {
    3: 4,
    4: 4,
    5: 8,
    6: 8,
    7: 2,
    8: 2,
    9: 4,
    10: 4,
    11: 4,
    12: 4,
    15: 3,
    16: 2,
    17: 4,
    18: 4,
    19: 2,
    20: 2,
}
"""Bytes after the tag of each constant (table 4.4-A), except for texts."""


class ClassFile(Struct, frozen=True):
    """The name of a class (``quay/Ledger``), its source below the package, and classes it uses.

    ``has_constants``: other classes may hold copies of its constants, without naming this class.
    """

    name: str
    source: str
    uses: tuple[str, ...]
    has_constants: bool


def class_sources(file: Path) -> list[str]:
    """The sources (``quay/Ledger.java``) of a class and of all that it uses from the same folder.

    The first one is that of the class. Others are left out if they have constants, because a class
    file does not say which of them it copied. Empty if the file is damaged or names no source.
    """
    first = _read(file, _changed_at(file))
    if first is None:
        return []
    top = file.parents[first.name.count("/")]
    sources: dict[str, None] = {}
    seen, waiting = {first.name}, [first]
    while waiting:
        one = waiting.pop()
        if one.source and (one is first or not one.has_constants):
            sources[one.source] = None
        for name in one.uses:
            if name not in seen:
                seen.add(name)
                other = top / f"{name}.class"
                used = _read(other, _changed_at(other))
                if used:
                    waiting += [used]
    return list(sources)


def _changed_at(file: Path) -> int:
    """Nanoseconds; 0 if there is no such file."""
    try:
        return file.stat().st_mtime_ns
    except OSError:
        return 0


@lru_cache(maxsize=20_000)  # a class is used by the tests of many files
def _read(file: Path, changed_at: int) -> ClassFile | None:
    if not changed_at:
        return None
    try:
        return _parsed(file.read_bytes())
    except (OSError, struct.error, LookupError, ValueError):
        return None


def _parsed(data: bytes) -> ClassFile:
    texts, classes, offset = _constants(data)
    (this, interfaces) = struct.unpack_from(">H2xH", data, offset + 2)
    name = texts[classes[this]]
    offset += 8 + 2 * interfaces
    has_constants = False
    for members in ("fields", "methods"):
        (count,) = struct.unpack_from(">H", data, offset)
        offset += 2
        for _ in range(count):
            (access,) = struct.unpack_from(">H", data, offset)
            attributes, offset = _attributes(data, texts, offset + 6)
            is_constant = members == "fields" and "ConstantValue" in attributes
            has_constants = has_constants or (is_constant and not access & _PRIVATE)
    attributes, _ = _attributes(data, texts, offset)
    source = ""
    if "SourceFile" in attributes:
        source = texts[attributes["SourceFile"]]
    package = name.rpartition("/")[0]
    uses = tuple(
        texts[index].strip("[").removeprefix("L").rstrip(";") for index in classes.values()
    )
    return ClassFile(
        name=name,
        source=f"{package}/{source}".lstrip("/") if source else "",
        uses=uses,
        has_constants=has_constants,
    )


def _constants(data: bytes) -> tuple[dict[int, str], dict[int, int], int]:
    """The texts and the classes of the constant pool by their index, and its end."""
    if data[:4] != MAGIC:
        raise ValueError("no class file")
    (count,) = struct.unpack_from(">H", data, 8)
    texts: dict[int, str] = {}
    classes: dict[int, int] = {}
    index, offset = 1, 10
    while index < count:
        tag = data[offset]
        (size,) = struct.unpack_from(">H", data, offset + 1)
        if tag == _UTF8:
            texts[index] = data[offset + 3 : offset + 3 + size].decode(errors="replace")
            offset += 3 + size
        else:
            if tag == _CLASS:
                classes[index] = size
            offset += 1 + _SIZES[tag]
        index += 2 if tag in (_LONG, _DOUBLE) else 1  # these take two indexes (section 4.4.5)
    return texts, classes, offset


def _attributes(data: bytes, texts: dict[int, str], offset: int) -> tuple[dict[str, int], int]:
    """The attributes at a place with the first two bytes of each as a number, and their end."""
    (count,) = struct.unpack_from(">H", data, offset)
    offset += 2
    attributes: dict[str, int] = {}
    for _ in range(count):
        name, size = struct.unpack_from(">HI", data, offset)
        attributes[texts[name]] = int.from_bytes(data[offset + 6 : offset + 8])
        offset += 6 + size
    return attributes, offset
