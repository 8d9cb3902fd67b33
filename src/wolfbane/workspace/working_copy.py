"""Finds the commit of a workspace, and whether its files differ from the commit."""

from __future__ import annotations

import subprocess
from pathlib import Path

from wolfbane.events.run_events import SuiteState
from wolfbane.workspace.git import git_command
from wolfbane.workspace.settings import Workspace

_PATIENCE = 20.0


class SuiteStateQuestion:
    """Asks git while the run is prepared, because git may be slow in a large repository."""

    def __init__(self, workspace: Workspace) -> None:
        self._known: SuiteState | None = None
        self._process: subprocess.Popen[bytes] | None = None
        if source := workspace.source:
            commit, settings = source.checkout.commit, source.settings
            self._known = SuiteState(
                commit=commit, changed=False, revision=source.revision, settings=settings
            )
        elif _in_repository(workspace.root):
            status = ("status", "--porcelain=v2", "--branch", "--", ".")
            command, variables = git_command(workspace.root, *status, compares=True)
            try:
                self._process = subprocess.Popen(
                    command,
                    env=variables,
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.DEVNULL,
                )
            except OSError:
                self._process = None

    def answer(self) -> SuiteState:
        """The state; empty if git has no data."""
        if self._known is None:
            self._known = self._read()
        return self._known

    def _read(self) -> SuiteState:
        if self._process is None:
            return SuiteState()
        try:
            output = self._process.communicate(timeout=_PATIENCE)[0].decode("utf-8", "replace")
        except subprocess.TimeoutExpired:
            self._process.kill()
            return SuiteState()
        lines = output.splitlines()
        commit = next((n for n in lines if n.startswith("# branch.oid ")), "").rpartition(" ")[2]
        if self._process.returncode or not commit.isalnum():  # "(initial)": no commit yet
            return SuiteState()
        return SuiteState(commit, any(not line.startswith("#") for line in lines))


def _in_repository(root: Path) -> bool:
    return any((folder / ".git").exists() for folder in (root, *root.parents))
