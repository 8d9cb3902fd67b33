"""Git: what differs from a revision, and the names of revisions."""

from __future__ import annotations

import subprocess
from pathlib import Path

from wolfbane.errors import InputError, Problem, did_you_mean


def changed_paths(root: Path, revision: str) -> set[str]:
    """The paths below ``root`` that differ from a revision, new ones and those gone included.

    Raises InputError where there is no git, no repository or no such revision.
    """
    _git(root, revision, "rev-parse", "--show-toplevel")
    commit = f"{revision}^{{commit}}"
    _git(root, revision, "rev-parse", "--verify", "--quiet", "--end-of-options", commit)
    told = _git(
        root, revision, "diff", "--name-only", "-z", "--no-renames", "--relative", revision, "--"
    )
    new = _git(root, revision, "ls-files", "--others", "--exclude-standard", "-z")
    return {path for path in (told + new).split("\0") if path}


def _git(root: Path, revision: str, *arguments: str) -> str:
    try:
        done = subprocess.run(
            ["git", "-C", str(root), *arguments], capture_output=True, check=False
        )
    except OSError as error:
        raise InputError(Problem(f"changed:{revision} needs git: {error}")) from None
    if done.returncode == 0:
        return done.stdout.decode("utf-8", "surrogateescape")
    if "--verify" in arguments:
        words = f"changed:{revision}: git knows no such revision"
        raise InputError(Problem(words, hint=did_you_mean(revision, revision_names(root))))
    said = done.stderr.decode("utf-8", "replace").strip().removeprefix("fatal: ")
    raise InputError(Problem(f"changed:{revision}: {said}"))


def revision_names(root: Path) -> list[str]:
    """Branches and tags; none where there is no git or no repository."""
    command = ["git", "-C", str(root), "for-each-ref", "--format=%(refname:short)"]
    try:
        told = subprocess.run(command, capture_output=True, text=True, check=False)
    except OSError:
        return []
    return told.stdout.split()
