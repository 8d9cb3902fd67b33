"""Finds the files that match the paths of a suite."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from wolfbane.basis.files import walk
from wolfbane.selection.match import path_pattern


def suite_files(
    root: Path, paths: Sequence[str], patterns: Sequence[str], exclude: Sequence[str]
) -> list[str]:
    """The files under ``root`` that a suite's paths name, relative, in sorted order."""
    unwanted = [re.compile(path_pattern(glob.rstrip("/")) + "(?:/.*)?") for glob in exclude]
    named = {file for path in paths for file in _expand(root, path.rstrip("/") or ".", patterns)}
    return sorted(file for file in named if not any(glob.fullmatch(file) for glob in unwanted))


def _expand(root: Path, path: str, patterns: Sequence[str]) -> Iterator[str]:
    path = path.removeprefix("./")
    if any(mark in path for mark in "*?"):
        fixed = "/".join(_before_glob(path.split("/")))
        matches = re.compile(path_pattern(path)).fullmatch
        yield from (file for file in walk(root, fixed) if matches(file))
    elif (root / path).is_dir():
        wanted = [re.compile(fnmatch.translate(pattern)).match for pattern in patterns]
        for file in walk(root, "" if path == "." else path):
            if any(match(file.rpartition("/")[2]) for match in wanted):
                yield file
    elif (root / path).is_file():
        yield path


def _before_glob(segments: Sequence[str]) -> Iterator[str]:
    for segment in segments:
        if any(mark in segment for mark in "*?"):
            return
        yield segment
