"""Finds a Python project's own interpreter and its source folders."""

from __future__ import annotations

import json
from pathlib import Path

from wolfbane.kinds.python.settings import InterpretedSuite

ENVIRONMENTS = (".venv", "venv")
"""Folders in which a project has its own interpreter."""


def project_python(root: Path, folder: str) -> str:
    """The interpreter of the environment in a folder, or in the workspace's; a path relative to the
    root.

    Nothing if there is none.
    """
    for parent in dict.fromkeys((folder, ".")):
        for name in ENVIRONMENTS:
            python = "/".join([*([] if parent == "." else [parent]), name, "bin", "python"])
            if (root / python).exists():
                return python
    return ""


def source_folder(root: Path, folder: str) -> dict[str, list[str]]:
    """A project's source folders: the checkout is tested, not an installed copy."""
    start = ""
    if folder != ".":
        start = f"{folder}/"
    has_package = any((root / start / "src").glob("*/__init__.py"))
    if has_package:
        return {"import_path": [f"{start}src"]}
    return {}


def interpreter_lines(root: Path, suite: InterpretedSuite) -> list[str]:
    """The interpreter and import path of a suite, as lines of a new settings file."""
    python = json.dumps(project_python(root, suite.folder) or "python3", ensure_ascii=False)
    lines = [f"python = {python}            # the interpreter for this suite"]
    if suite.import_path:
        folders = json.dumps(suite.import_path, ensure_ascii=False)
        lines.append(f"import_path = {folders}         # first on the import path")
    return lines
