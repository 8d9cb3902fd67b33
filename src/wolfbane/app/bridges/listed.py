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
        words = f"the command that lists tests failed with exit code {trial.code}"
        raise InputError(Problem(words))
    if _place(copy.root, command) is None:
        words = "the command that lists tests contains no file of this folder"
        raise InputError(Problem(words))
    return trial.printed.decode("utf-8", "replace").splitlines()


def find_listed(
    root: Path, command: Sequence[str], lines: Sequence[str], names: Sequence[str]
) -> SourceTests | None:
    """The tests of a list, one per line, in the file that the command names; None if the list does
    not have these names.
    """
    place = _place(root, command)
    assert place is not None
    file = Path(command[place]).as_posix()
    before = _before_names(lines, names)
    pattern = rf"^{re.escape(before)}(?P<name>\S.*)" if before else r"^(?P<name>\S.*)"
    found = [match["name"].rstrip() for line in lines if (match := re.search(pattern, line))]
    wanted = {end for name in names for end in suffixes(name)}
    if len(wanted & set(found)) < len(names) * _ENOUGH:
        return None
    listing = list(command)
    own_folder = "./" if listing[place].startswith("./") else ""
    listing[place] = own_folder + "{file}"
    tests = [(file, Item(name, 0, 0, is_test=True)) for name in dict.fromkeys(found)]
    return SourceTests(Path(file).name, Patterns(""), tests, listing, pattern)


def _place(root: Path, command: Sequence[str]) -> int | None:
    """The last argument that is a file of the folder."""
    places = [n for n, each in enumerate(command) if (root / each).is_file()]
    return places[-1] if places else None


def _before_names(lines: Sequence[str], names: Sequence[str]) -> str:
    """The common text before the names on most lines."""
    ends = sorted({end for name in names for end in suffixes(name)}, key=len, reverse=True)
    counts: Counter[str] = Counter()
    for line in lines:
        name = next((end for end in ends if line.rstrip().endswith(end)), "")
        if name:
            counts[line.rstrip()[: -len(name)]] += 1
    common = counts.most_common(1)
    return common[0][0] if common else ""
