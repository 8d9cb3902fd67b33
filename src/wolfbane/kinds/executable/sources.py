"""The sources that an executable file may use."""

from __future__ import annotations

import posixpath
from collections.abc import Iterable

_ENDINGS = (
    "pm", "pl", "PL", "ph", "al", "t", "xs", "c", "h", "cc", "cpp", "hpp", "s", "tcl", "tm", "sh",
    "bash", "zsh", "awk", "sed", "lua", "rb", "php", "tap",
)  # fmt: skip
"""Languages whose imports Wolfbane does not follow, because they are computed when they run."""


def sources_below(folders: Iterable[str]) -> list[str]:
    """Globs of the sources in these folders, in languages whose imports are not followed."""
    tops = dict.fromkeys(posixpath.normpath(folder) for folder in folders)
    starts = ["" if top == "." else f"{top}/" for top in tops]
    return [f"{start}**/*.{ending}" for start in starts for ending in _ENDINGS]
