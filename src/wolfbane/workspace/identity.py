"""The identity of a workspace, the same on every machine, for a shared history."""

from __future__ import annotations

from pathlib import Path

import msgspec

from wolfbane.workspace.git import ask_git
from wolfbane.workspace.settings import Workspace


class Identity(msgspec.Struct, frozen=True):
    """``text`` distinguishes a workspace from all others, ``name`` is its title for the user.

    Without a text, all runs in a history belong to the workspace.
    """

    text: str = ""
    name: str = ""


def identity_of(workspace: Workspace) -> tuple[Identity, str]:
    """The identity, and a warning if it may be different in other clones.

    The key ``identity``; without it, the repository's first commit and the folder within it;
    without a repository, the name.
    """
    name = workspace.name
    if given := workspace.settings.workspace.identity:
        return Identity(f"key {given}", name), ""
    if _git(workspace.root, "rev-parse", "--is-shallow-repository") == "true":
        hint = "set 'identity' in [workspace] of wolfbane.toml"
        warning = (
            "this clone is shallow and lacks the repository's first commit, "
            "so the team's history identifies this workspace by its name, "
            f"'{name}'; other clones may use another identity; {hint}"
        )
        return Identity(f"name {name}", name), warning
    # The last one listed is the oldest, where histories were merged that begin apart.
    roots = _git(workspace.root, "rev-list", "--max-parents=0", "HEAD").split()
    if not roots:
        return Identity(f"name {name}", name), ""
    folder = _git(workspace.root, "rev-parse", "--show-prefix").rstrip("/")
    return Identity(f"commit {roots[-1]} {folder}".rstrip(), name), ""


def _git(root: Path, *arguments: str) -> str:
    """The output of git; empty if there is no git, no repository or no commit."""
    answer = ask_git(root, *arguments)
    if answer.code == 0:
        return answer.output.strip()
    return ""
