"""The words of a workspace as sorted lists, for fast shell completion."""

from __future__ import annotations

import contextlib
from bisect import bisect_left
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from wolfbane.basis.files import read_regular, write_whole

if TYPE_CHECKING:
    from wolfbane.model import Test

FOLDER = "words"
SUITES, FILES, TAGS, NAMES, ADDRESSES = "suites", "files", "tags", "names", "addresses"


def write_words(results: Path, tests: Iterable[Test]) -> None:
    """Write every list again."""
    by_subject: dict[str, set[str]] = {SUITES: set(), FILES: set(), TAGS: set(), NAMES: set()}
    addresses = set()
    for test in tests:
        by_subject[SUITES].add(test.suite)
        by_subject[FILES].add(test.path)
        by_subject[TAGS].update(tag.text for tag in test.tags)
        by_subject[NAMES].add(test.name)
        addresses.add(test.address)
    by_subject[ADDRESSES] = addresses
    with contextlib.suppress(OSError):  # without them a shell completes less, and that is all
        for subject, values in by_subject.items():
            lines = sorted(word for word in values if word.isprintable() and word)
            write_whole(results / FOLDER / subject, "\n".join(lines))


def words_starting(results: Path, subject: str, start: str) -> list[str]:
    """The words of a list with this prefix, in order; none if the list was never written."""
    try:
        lines = read_regular(results / FOLDER / subject).decode().split("\n")
    except OSError:
        return []
    first = bisect_left(lines, start)
    values = []
    for line in lines[first:]:
        if not line.startswith(start):
            break
        values.append(line)
    return values
