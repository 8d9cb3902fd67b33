"""Copy the sample workspace to a folder of the user's."""

from __future__ import annotations

import shutil
from pathlib import Path

from wolfbane.errors import InputError, Problem

HARBOUR = Path(__file__).parent / "harbour"


def copy_harbour(target: Path) -> Path:
    """Copy the harbour into ``target``, which must not hold anything yet. Raises InputError."""
    if target.exists() and (not target.is_dir() or any(target.iterdir())):
        raise InputError(Problem("it is not empty; the demo overwrites nothing", str(target)))
    try:
        shutil.copytree(
            HARBOUR, target, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__")
        )
    except OSError as error:
        raise InputError(Problem(f"the demo cannot be copied: {error}", str(target))) from None
    for script in (target / "quay" / "t").iterdir():
        script.chmod(0o755)
    return target
