"""The tests that ``watch`` runs: tests affected by saved files, or a part of the selection."""

from __future__ import annotations

from collections.abc import Callable, Collection
from pathlib import Path

import msgspec
from msgspec.structs import replace

from wolfbane.app.ready import ReadyRun, make_ready
from wolfbane.app.selection import Selected
from wolfbane.environments import Environment
from wolfbane.inventory.affected import affected
from wolfbane.inventory.resolving import resolved
from wolfbane.results.quarantine import NAME as QUARANTINE_NAME
from wolfbane.selection import Expression, Term, all_of, choose, parse
from wolfbane.setup.run_request import RunRequest
from wolfbane.workspace.settings import Workspace
from wolfbane.workspace.vocabulary import SETTINGS_NAME

FAILED = Term("status", "failed")
"""Matches the tests that failed in their last run."""
_SETTINGS = frozenset({SETTINGS_NAME, QUARANTINE_NAME})
_NAMED = 3
"""Number of saved files that a run names; ``...`` represents the others."""


class SavedChange(msgspec.Struct, frozen=True):
    """The effect of saved files: reloaded settings, and the tests to run, if any."""

    settings: list[str]
    affected: Expression | None


class WatchedSelection:
    """A selection in a workspace that changes while it is watched.

    ``open_workspace`` reads the current settings, ``select`` the selection, and ``environments``
    the environments of the runs.
    """

    def __init__(
        self,
        open_workspace: Callable[[], Workspace],
        select: Callable[..., Selected],
        environments: Callable[[Workspace], list[Environment]],
        request: RunRequest,
    ) -> None:
        self._open, self._select, self._environments = open_workspace, select, environments
        self._request = request
        self._narrower: Expression | None = None
        self.workspace = open_workspace()

    def saved(self, paths: Collection[str]) -> SavedChange:
        """Read the workspace again; returns the tests that these files affect.

        Raises WolfbaneError.
        """
        self.workspace = self._open()
        selected = self._select(self.workspace)
        reached = affected(self.workspace, selected.inventory.files, set(paths)).files
        settings = [path for path in sorted(paths) if Path(path).name in _SETTINGS]
        if not reached:
            return SavedChange(settings, None)
        named = ", ".join(sorted(paths)[:_NAMED]) + (", ..." if len(paths) > _NAMED else "")
        return SavedChange(settings, Term("changed", named, "quoted", among=reached))

    def ready(self, only: Expression | None = None) -> ReadyRun:
        """A run of the selection, or of the tests in it that match an expression.

        Raises NothingChosen if there are none, and other errors of the workspace.
        """
        self.workspace = self._open()
        environments = self._environments(self.workspace)
        return make_ready(
            self.workspace, environments, lambda opened: self._selected(only, opened), self._request
        )

    def narrow(self, text: str) -> None:
        """Watch only the tests that match an expression; all tests if it is empty.

        Raises ExpressionError, and keeps the previous selection.
        """
        self._narrower = parse(text) if text.strip() else None

    def chosen(self) -> tuple[int, str]:
        """The number of watched tests, and the selection as text. Raises WolfbaneError."""
        selected = self._selected()
        status = selected.newest.overall().status
        tests = choose(selected.choice, selected.inventory.tests, status).chosen
        return len(tests), str(selected.choice)

    def _selected(
        self, only: Expression | None = None, opened: Workspace | None = None
    ) -> Selected:
        selected = self._select(opened or self.workspace)
        if self._narrower:
            parts = [resolved(self._narrower, selected.inventory)]
        else:
            parts = []
        if only is not None:
            parts += [only]
        expression = all_of([selected.choice.expression, *parts])
        return replace(selected, choice=replace(selected.choice, expression=expression))
