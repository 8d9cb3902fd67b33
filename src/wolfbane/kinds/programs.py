"""Finds the programs that kinds start, and asks for their versions; looks for text in files."""

from __future__ import annotations

import re
import shutil
import subprocess
from functools import cache
from pathlib import Path

from wolfbane.basis.inspection import may_start, neutral_folder
from wolfbane.kinds.contract import MissingRuntime, NotStarted
from wolfbane.kinds.suite import Suite

_PATIENCE = 60

STARTERS = {
    ".py": "python",
    ".sh": "sh",
    ".tcl": "tclsh",
    ".pl": "perl",
    ".rb": "ruby",
    ".js": "node",
    ".mjs": "node",
    ".php": "php",
    ".lua": "lua",
}
"""The program that a user types before a script, by the script's ending."""


def find_program(root: Path, given: str, default: str, what: str) -> str:
    """A program that the settings name (a path relative to the workspace, or a command); otherwise,
    the default.

    Raises MissingRuntime, with the name of the program and how to install it.
    """
    wanted = given or default
    local = root / wanted
    program = str(local) if given and local.is_file() else shutil.which(wanted)
    if not program:
        raise MissingRuntime(
            f"{what} '{wanted}' not found (install {default}, or set the suite's '{default}')"
        )
    return program


def check_required(root: Path, suite: Suite, path: str | None = None) -> None:
    """Raises MissingRuntime if a program that the suite ``requires`` is not on the ``PATH``, or at
    its path relative to the workspace.
    """
    for program in suite.requires:
        if not shutil.which(program, path=path) and not shutil.which(str(root / program)):
            raise MissingRuntime(f"required program '{program}' not found (install it)")


def version_line(program: str, what: str) -> str:
    """The output of ``PROGRAM --version``.

    Raises MissingRuntime if it does not start, and NotStarted if it must not start.
    """
    if not may_start(program):
        raise NotStarted(program)
    return _version_line(program, what, neutral_folder())


@cache
def _version_line(program: str, what: str, folder: Path | None) -> str:
    try:
        run = subprocess.run(
            [program, "--version"],
            cwd=folder,
            capture_output=True,
            text=True,
            timeout=_PATIENCE,
            check=True,
        )
    except (OSError, subprocess.SubprocessError) as error:
        raise MissingRuntime(f"cannot start the {what} '{program}': {error}") from None
    return run.stdout.strip()


def holds(path: Path, pattern: re.Pattern[bytes]) -> bool:
    """Whether a file can be read and contains the pattern."""
    try:
        return path.is_file() and pattern.search(path.read_bytes()) is not None
    except OSError:
        return False
