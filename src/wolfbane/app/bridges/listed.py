"""Reads the tests that a command lists, if the sources do not show them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from wolfbane.app.bridges.trial import TrialFolder
from wolfbane.errors import InputError, Problem
from wolfbane.kinds.bridge.learning.source_patterns import SourceTests, suffixes
from wolfbane.kinds.bridge.outline import Item, Patterns

_ENOUGH = 0.5
"""The part of the report's names that a list must contain."""


def list_tests(copy: TrialFolder, command: Sequence[str], limit: float) -> Sequence[str]:
    """The lines that the command prints. Raises InputError if it fails, or names no file."""
    trial = copy.run(command, limit)
    if trial.code or trial.late:
        message = f"the command that lists tests failed with exit code {trial.code}"
        raise InputError(Problem(message))
    if _place(copy.root, command) is None:
        message = "the command that lists tests contains no file of this folder"
        raise InputError(Problem(message))
    return trial.printed.decode("utf-8", "replace").splitlines()


def find_listed(
    root: Path, command: Sequence[str], lines: Sequence[str], names: Sequence[str]
) -> SourceTests | None:
    """The tests of a list, one per line, in the file that the command names; None if the list does
    not have these names.
    """
    folder = _place(root, command)
    assert folder is not None
    file = Path(command[folder]).as_posix()
    before = _before_names(lines, names)
    pattern = r"^(?P<name>\S.*)"
    if before:
        pattern = rf"^{re.escape(before)}(?P<name>\S.*)"
    listed = [match["name"].rstrip() for line in lines if (match := re.search(pattern, line))]
    wanted = {end for name in names for end in suffixes(name)}
    if len(wanted & set(listed)) < len(names) * _ENOUGH:
        return None
    listing = list(command)
    own_folder = ""
    if listing[folder].startswith("./"):
        own_folder = "./"
    listing[folder] = own_folder + "{file}"
    tests = [(file, Item(name, 0, 0, is_test=True)) for name in dict.fromkeys(listed)]
    return SourceTests(
        glob=Path(file).name, patterns=Patterns(""), tests=tests, listing=listing, pattern=pattern
    )


def _place(root: Path, command: Sequence[str]) -> int | None:
    """The last argument that is a file of the folder."""
    places = [n for n, each in enumerate(command) if (root / each).is_file()]
    if places:
        return places[-1]
    return None


def _before_names(lines: Sequence[str], names: Sequence[str]) -> str:
    """The common text before the names on most lines."""
    ends = sorted({end for name in names for end in suffixes(name)}, key=len, reverse=True)
    counts: Counter[str] = Counter()
    for line in lines:
        name = next((end for end in ends if line.rstrip().endswith(end)), "")
        if name:
            counts[line.rstrip()[: -len(name)]] += 1
    common = counts.most_common(1)
    if common:
        return common[0][0]
    return ""
