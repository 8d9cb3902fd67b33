"""Writes the values of an environment to files, for suites that do not read variables."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from wolfbane.environments.environment import Environment


class ValuesFiles:
    """Writes the files when they are needed for the first time.

    They are removed with their folder at the end of the run.
    """

    def __init__(self, folder: Path, environments: Sequence[Environment]) -> None:
        self._folder, self._environments = folder, list(environments)

    def path(self, environment: Environment, form: str) -> Path:
        """The file with an environment's values, which only this user can read."""
        number = self._environments.index(environment)
        path = self._folder / f"values-{number}.{form}"
        if not path.exists():
            path.touch(mode=0o600)
            path.write_text(environment.as_file(form), encoding="utf-8")
        return path
