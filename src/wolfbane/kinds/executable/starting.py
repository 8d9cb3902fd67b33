"""Finds and starts files of suites that can define interpreters, and names their sources."""

from __future__ import annotations

import posixpath
import shutil
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from wolfbane.kinds.contract import MissingRuntime
from wolfbane.kinds.executable.settings import ExecutableSuite

BY_SUFFIX = {".t": "perl", ".pl": "perl", ".sh": "sh", ".tcl": "tclsh"}
"""The interpreter for a file without a ``#!`` line. Python's own is found for each project."""


def start_options(root: Path, suite: ExecutableSuite) -> dict[str, Any]:
    """The options that a worker needs to start files.

    Raises MissingRuntime if an interpreter is not installed.
    """
    commands = suite.commands()
    for suffix, (program, *_) in commands.items():
        if not shutil.which(program) and not (root / program).exists():
            raise MissingRuntime(f"interpreter '{program}' for {suffix} files not found")
    # A project's Python is only looked for when a file needs it: it may not even start.
    return {
        "interpreters": commands,
        "defaults": BY_SUFFIX,
        "arguments": suite.arguments,
        "python_of": suite.folder,
    }


_ENDINGS = (
    "pm",
    "pl",
    "PL",
    "ph",
    "al",
    "t",
    "xs",
    "c",
    "h",
    "cc",
    "cpp",
    "hpp",
    "s",
    "tcl",
    "tm",
    "sh",
    "bash",
    "zsh",
    "awk",
    "sed",
    "lua",
    "rb",
    "php",
    "tap",
)
"""Languages whose imports Wolfbane does not follow, because they are computed when they run."""


def sources_below(folders: Iterable[str]) -> list[str]:
    """Globs of the sources in these folders, in languages whose imports are not followed."""
    tops = dict.fromkeys(posixpath.normpath(folder) for folder in folders)
    starts = ["" if top == "." else f"{top}/" for top in tops]
    return [f"{start}**/*.{ending}" for start in starts for ending in _ENDINGS]
