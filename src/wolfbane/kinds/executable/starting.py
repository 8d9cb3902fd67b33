"""Finds and starts files of suites that can define interpreters."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

from wolfbane.kinds.contract import MissingRuntime
from wolfbane.kinds.executable.settings import ExecutableSuite
from wolfbane.kinds.python.interpreters import default_interpreter

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
    defaults = {**BY_SUFFIX, ".py": default_interpreter(root, suite.folder)}
    return {"interpreters": commands, "defaults": defaults, "arguments": suite.arguments}
