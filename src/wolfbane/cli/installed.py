"""The versions of everything that Wolfbane is installed with, for bug reports."""

from __future__ import annotations

import platform
import re
from collections.abc import Iterator
from importlib.metadata import PackageNotFoundError, requires, version

from wolfbane.reports.text import aligned


def installed_lines() -> Iterator[str]:
    """The interpreter, the system, and every package that Wolfbane names, with their versions."""
    rows = [
        (platform.python_implementation().replace("CPython", "Python"), platform.python_version()),
        (platform.system(), f"{platform.release()} {platform.machine()}"),
    ]
    for name in _packages():
        try:
            rows.append((name, version(name)))
        except PackageNotFoundError:
            rows.append((name, "not installed"))
    yield from aligned(rows)


def _packages() -> list[str]:
    """The names of the dependencies, without those for development."""
    packages: dict[str, None] = {}
    for line in requires("wolfbane") or ():
        requirement, _, marker = line.partition(";")
        if "dev" not in marker and (name := re.match(r"[\w.-]+", requirement)):
            packages[name[0]] = None
    return sorted(packages, key=str.lower)
