"""Where a project keeps an interpreter of its own."""

from __future__ import annotations

from pathlib import Path

_ENVIRONMENTS = (".venv", "venv")


def project_python(root: Path, folder: str) -> str:
    """The interpreter of the environment in a folder, or in the workspace's; a path from the root.

    Nothing where there is none.
    """
    for place in dict.fromkeys((folder, ".")):
        for name in _ENVIRONMENTS:
            python = "/".join([*([] if place == "." else [place]), name, "bin", "python"])
            if (root / python).exists():
                return python
    return ""
