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
    words: dict[str, set[str]] = {SUITES: set(), FILES: set(), TAGS: set(), NAMES: set()}
    addresses = set()
    for test in tests:
        words[SUITES].add(test.suite)
        words[FILES].add(test.path)
        words[TAGS].update(tag.text for tag in test.tags)
        words[NAMES].add(test.name)
        addresses.add(test.address)
    words[ADDRESSES] = addresses
    with contextlib.suppress(OSError):  # without them a shell completes less, and that is all
        for subject, found in words.items():
            lines = sorted(word for word in found if word.isprintable() and word)
            write_whole(results / FOLDER / subject, "\n".join(lines))


def words_starting(results: Path, subject: str, start: str) -> list[str]:
    """The words of a list with this prefix, in order; none if the list was never written."""
    try:
        lines = read_regular(results / FOLDER / subject).decode().split("\n")
    except OSError:
        return []
    first = bisect_left(lines, start)
    words = []
    for line in lines[first:]:
        if not line.startswith(start):
            break
        words.append(line)
    return words
