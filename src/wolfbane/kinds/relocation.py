"""Converts paths of an included workspace to paths of the outer workspace."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec


class Relocation(msgspec.Struct, frozen=True):
    """Converts paths relative to the included workspace to paths relative to the outer root."""

    root: Path
    folder: str

    def path(self, path: str) -> str:
        """A path of the included workspace. An absolute or empty path stays unchanged."""
        if not path or path.startswith("/"):
            return path
        if path in (".", "./"):
            return self.folder
        return f"{self.folder}/{path.removeprefix('./')}"

    def paths(self, paths: Sequence[str]) -> list[str]:
        """Several paths of the included workspace."""
        return [self.path(path) for path in paths]

    def program(self, program: str) -> str:
        """A program that is a file of the included workspace; any other program keeps its name."""
        inside = bool(program) and (self.root / self.folder / program).exists()
        if inside:
            return self.path(program)
        return program
