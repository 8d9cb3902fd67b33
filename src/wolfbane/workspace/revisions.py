"""Asks git which files differ from a revision."""

from __future__ import annotations

from pathlib import Path

from wolfbane.errors import InputError, Problem
from wolfbane.workspace.git import ask_git, commit_of


def changed_paths(root: Path, revision: str) -> set[str]:
    """The paths below ``root`` that differ from a revision, including new and removed ones.

    Raises InputError if there is no git, no repository or no such revision.
    """
    why = f"changed:{revision}"
    commit_of(root, revision, why)
    paths: set[str] = set()
    names = ("--name-only", "-z", "--no-renames", "--relative")
    for question in (
        ("diff", "--no-ext-diff", *names, revision, "--"),
        ("ls-files", "--others", "--exclude-standard", "-z"),
    ):
        answer = ask_git(root, *question, compares=question[0] == "diff")
        if answer.code:
            raise InputError(Problem(f"{why}: {answer.reason}"))
        paths.update(answer.output.split("\0"))
    return paths - {""}
