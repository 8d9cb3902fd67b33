"""Run folders: a new one, and the one that a user names."""

from __future__ import annotations

import secrets
from datetime import datetime
from pathlib import Path

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.results.journal import JOURNAL_NAME


def new_run(results: Path) -> Path:
    """Make the folder of a new run, named after the time. The results folder ignores itself.

    Raises InputError where that cannot be done.
    """
    folder = results / "runs" / f"{datetime.now():%Y%m%d-%H%M%S}-{secrets.token_hex(2)}"
    try:
        folder.mkdir(parents=True)
        ignore = results / ".gitignore"
        if not ignore.exists():
            ignore.write_text("*\n", encoding="utf-8")
    except OSError as error:
        raise InputError(Problem(f"runs cannot be recorded there: {error}", str(results))) from None
    return folder


def find_run(results: Path, name: str) -> Path:
    """The folder of a run by its name, the start of its name, or ``last``. Raises InputError."""
    folders = sorted(path.parent for path in (results / "runs").glob(f"*/{JOURNAL_NAME}"))
    if not folders:
        raise InputError(Problem(f"no run is recorded in {results}"))
    if name == "last":
        return folders[-1]
    matches = [folder for folder in folders if folder.name.startswith(name)]
    if len(matches) == 1:
        return matches[0]
    if matches:
        names = ", ".join(folder.name for folder in matches[:5])
        raise InputError(Problem(f"'{name}' is the start of {len(matches)} runs: {names}"))
    hint = did_you_mean(name, [folder.name for folder in folders[-10:]])
    raise InputError(Problem(f"there is no run '{name}'", hint=hint or "'last' is the newest"))
