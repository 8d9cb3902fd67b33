"""How the imports of source files are followed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Protocol


class ImportReader(Protocol):
    """Finds the imports of a source file by reading it."""

    suffixes: tuple[str, ...]
    """The endings of file names that it reads."""

    def names(self, source: bytes) -> list[str]:
        """The imports of a source, as written there."""

    def files(
        self, name: str, path: str, roots: Sequence[str], exists: Callable[[str], bool]
    ) -> Iterator[str]:
        """The files of the workspace that a name in the file ``path`` means.

        ``roots`` are folders in which modules are searched. Paths are relative to the workspace.
        """
