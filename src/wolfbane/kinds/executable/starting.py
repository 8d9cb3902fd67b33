"""Finds and starts files of suites that can define interpreters."""

from __future__ import annotations

import shutil
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
        "interpreters": commands, "defaults": BY_SUFFIX, "arguments": suite.arguments,
        "python_of": suite.folder,
    }  # fmt: skip
