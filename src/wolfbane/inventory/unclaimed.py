"""Finds files that look like tests but belong to no suite."""

from __future__ import annotations

import re

from wolfbane.files import as_text
from wolfbane.inventory.scan import Inventory
from wolfbane.selection.match import path_pattern
from wolfbane.workspace.candidates import looks_like_tests, read_tree

SHOWN = 3


def unclaimed(inventory: Inventory) -> list[str]:
    """The files with names like tests that no suite's paths or ``exclude`` contain."""
    workspace = inventory.workspace
    claimed = {
        *inventory.files,
        *(path for each in inventory.without_tests.values() for path in each),
    }
    left = [workspace.settings.workspace.results]
    left += [path for suite in workspace.suites for path in suite.exclude]
    unwanted = [re.compile(path_pattern(glob.rstrip("/")) + "(?:/.*)?") for glob in left]
    return [
        as_text(file)
        for file in read_tree(workspace.root).files
        if file not in claimed
        and looks_like_tests(file)
        and not any(glob.fullmatch(file) for glob in unwanted)
    ]


def in_words(files: list[str]) -> str:
    """``3 files look like tests but belong to no suite: ...``."""
    more = ", ..." if len(files) > SHOWN else ""
    many = "1 file looks" if len(files) == 1 else f"{len(files)} files look"
    belong = "belongs" if len(files) == 1 else "belong"
    return f"{many} like tests but {belong} to no suite: {', '.join(files[:SHOWN])}{more}"
