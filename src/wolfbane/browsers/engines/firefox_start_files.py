"""Files of a first start of Firefox that make later starts faster."""

from __future__ import annotations

import shutil
from pathlib import Path


class StartFiles:
    """Files that Firefox creates at its first start and can reuse. They contain no page data.

    They come from the first closed profile of a run, and halve the time of later starts.
    """

    _NEEDED = ("startupCache", "compatibility.ini")
    _NAMES = (*_NEEDED, "addonStartup.json.lz4", "extensions.json")  # of add-ons, if it has any

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._taken = self._there = False

    def claim(self) -> bool:
        """True for the first caller, which must keep its files."""
        first, self._taken = not self._taken, True
        return first

    def keep(self, profile: Path) -> None:
        """Store the files of a Firefox that has quit."""
        for name in self._NAMES:
            _copy(profile / name, self._folder / name)
        self._there = all((self._folder / name).exists() for name in self._NEEDED)

    def lay(self, profile: Path) -> None:
        """Copy them to a new profile, if there are any yet."""
        if self._there:
            for name in self._NAMES:
                _copy(self._folder / name, profile / name)


def _copy(source: Path, target: Path) -> None:
    if source.is_dir():
        shutil.copytree(source, target, dirs_exist_ok=True)
    elif source.exists():
        shutil.copy(source, target)
