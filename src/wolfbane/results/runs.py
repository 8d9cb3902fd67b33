"""Creates run folders, and finds the run folder that a user names."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from wolfbane.basis.files import results_folder
from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.results.journal import JOURNAL_NAME

PLACES = {"last": 0, "previous": 1}


def new_run(results: Path) -> Path:
    """Create the folder of a new run, named by the time.

    The results folder contains its own git ignore rule.

    Raises InputError if that is not possible.
    """
    now = datetime.now()
    within = now.microsecond * 0x10000 // 1_000_000  # the part of the second: names sort by time
    folder = results / "runs" / f"{now:%Y%m%d-%H%M%S}-{within:04x}"
    while folder.exists():
        within += 1
        folder = folder.with_name(f"{now:%Y%m%d-%H%M%S}-{within:04x}")
    try:
        results_folder(results)
        folder.mkdir(parents=True)
    except OSError as error:
        raise InputError(
            Problem(f"cannot record runs in this folder: {error}", str(results))
        ) from None
    return folder


def find_run(results: Path, name: str) -> Path:
    """The folder of a run, by its name, the start of its name, ``last`` or ``previous``.

    Raises InputError.
    """
    folders = sorted(path.parent for path in (results / "runs").glob(f"*/{JOURNAL_NAME}"))
    if not folders:
        raise InputError(Problem(f"no runs are recorded in {results}"))
    return results / "runs" / one_named([folder.name for folder in reversed(folders)], name)


def one_named(names: Sequence[str], name: str) -> str:
    """The matching name, from these with the newest first. Raises InputError."""
    if name in PLACES:
        if len(names) > PLACES[name]:
            return names[PLACES[name]]
        raise InputError(Problem(f"there is no {name} run; recorded runs: {len(names)}"))
    matches = [known for known in names if known.startswith(name)]
    if len(matches) == 1 or name in matches:
        if name in matches:
            return name
        return matches[0]
    if matches:
        some = ", ".join(matches[:5])
        raise InputError(Problem(f"'{name}' matches {len(matches)} runs: {some}"))
    hint = did_you_mean(name, [*PLACES, *names[:10]])
    raise InputError(Problem(f"there is no run '{name}'", hint=hint or "'last' is the newest"))
