"""Reads the tests that a command lists, if the sources do not show them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from wolfbane.app.learning.source_patterns import SourceTests, suffixes
from wolfbane.app.learning.trial import TrialFolder
from wolfbane.errors import InputError, Problem
from wolfbane.kinds.bridge.outline import Item, Patterns

_ENOUGH = 0.5
"""The part of the report's names that a list must contain."""


def find_listed(
    copy: TrialFolder, command: Sequence[str], names: Sequence[str], limit: float
) -> SourceTests:
    """The tests of a list, one per line, in the file that the command names.

    Raises InputError if the command fails, names no file, or prints other names.
    """
    trial = copy.run(command, limit)
    if trial.code or trial.late:
        words = f"the command that lists tests failed with exit code {trial.code}"
        raise InputError(Problem(words))
    places = [n for n, each in enumerate(command) if (copy.root / each).is_file()]
    if not places:
        words = "the output of the command that lists tests contains no file of this folder"
        raise InputError(Problem(words))
    file = Path(command[places[-1]]).as_posix()
    lines = trial.printed.decode("utf-8", "replace").splitlines()
    before = _before_names(lines, names)
    pattern = rf"^{re.escape(before)}(?P<name>\S.*)" if before else r"^(?P<name>\S.*)"
    found = [match["name"].rstrip() for line in lines if (match := re.search(pattern, line))]
    wanted = {end for name in names for end in suffixes(name)}
    if len(wanted & set(found)) < len(names) * _ENOUGH:
        words = (
            "the output of the command that lists tests "
            "does not contain the test names of the report"
        )
        raise InputError(Problem(words))
    listing = list(command)
    own_folder = "./" if listing[places[-1]].startswith("./") else ""
    listing[places[-1]] = own_folder + "{file}"
    tests = [(file, Item(name, 0, 0, is_test=True)) for name in dict.fromkeys(found)]
    return SourceTests(Path(file).name, Patterns(""), tests, listing, pattern)


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
