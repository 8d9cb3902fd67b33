"""Parses durations and sizes. This module imports quickly, because shell completion uses it."""

from __future__ import annotations

import re

_DURATION = re.compile(r"(\d+(?:\.\d+)?)\s*(ms|s|m|h|d)?")
_SECONDS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0, None: 1.0}
_RATE = re.compile(r"(\d+(?:\.\d+)?)\s*/\s*(s|m|h)")
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*([kMG]i?B|B)?")
_BYTES = {
    "B": 1,
    "kB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "kiB": 1 << 10,
    "MiB": 1 << 20,
    "GiB": 1 << 30,
    None: 1,
}
_THOUSAND = 1000


def seconds(value: object, *, needs_unit: bool = False) -> float:
    """Read a duration: a number of seconds, or text such as ``250ms``, ``30s``, ``5m``, ``1d``.

    ``needs_unit`` rejects a plain number: if days are usual, 3 seconds would be a mistake.
    """
    bare = isinstance(value, int | float) or (isinstance(value, str) and value.strip().isdigit())
    if needs_unit and bare:
        raise ValueError(f"{value!r} has no unit (write '{value}d' for days, '{value}h' for hours)")
    if isinstance(value, int | float) and not isinstance(value, bool) and value > 0:
        return float(value)
    match = None
    if isinstance(value, str):
        match = _DURATION.fullmatch(value.strip())
    if match is None or float(match[1]) == 0:
        raise ValueError(f"{value!r} is not a duration (write 30, '250ms', '30s', '5m' or '1h')")
    return float(match[1]) * _SECONDS[match[2]]


def rate(text: str) -> float:
    """Read a rate as a number per second: ``40/s``, ``90/m``, ``0.5/s``, ``500/h``."""
    match = _RATE.fullmatch(text.strip())
    if match is None:
        raise ValueError(f"'{text}' is not a rate (write 40/s, 90/m or 500/h)")
    return float(match[1]) / _SECONDS[match[2]]


def size(value: object) -> int:
    """Read a size: a number of bytes, or text such as ``500 kB``, ``64 MiB``, ``1 GB``."""
    if isinstance(value, int) and not isinstance(value, bool) and value > 0:
        return value
    match = None
    if isinstance(value, str):
        match = _SIZE.fullmatch(value.strip())
    if match is None or float(match[1]) == 0:
        raise ValueError(f"{value!r} is not a size (write 5000000, '500 kB', '64 MiB' or '1 GB')")
    return int(float(match[1]) * _BYTES[match[2]])


def bytes_shown(count: int) -> str:
    """A size: ``512 B``, ``3.4 kB``, ``1.2 MB``."""
    size, unit = float(count), "B"
    for larger in ("kB", "MB", "GB"):
        if size < _THOUSAND:
            break
        size, unit = size / _THOUSAND, larger
    if unit == "B":
        return f"{count} B"
    return f"{size:.1f} {unit}"
