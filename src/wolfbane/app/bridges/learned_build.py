"""Learns a build from a command that builds before it runs the tests: ``make && ./check``."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Sequence
from pathlib import Path, PurePosixPath

import msgspec

from wolfbane.app.bridges.trial import Trial, TrialFolder

_FEW = 3
"""Outputs that are named one by one."""


class Build(msgspec.Struct, frozen=True):
    """The shell commands of a build, and the commands after it, for all tests and for one."""

    command: str
    all_tests: Sequence[str]
    one: Sequence[str]


class LearnedBuild(msgspec.Struct, frozen=True):
    """The keys of a suite for its build: globs relative to the folder."""

    command: str
    inputs: Sequence[str]
    outputs: Sequence[str]


def run_build(copy: TrialFolder, command: str, limit: float) -> Trial:
    """Run the commands of a build."""
    return copy.run(["sh", "-c", command], limit)


def learn_build(copy: TrialFolder, command: str, limit: float) -> LearnedBuild | None:
    """Run a build. None if it fails, or if it writes no file.

    The inputs are the files that it read, if the file system notes that; otherwise, all files.
    """
    before = copy.files()
    for path in before:  # a time of access before that of the last change is noted anew
        os.utime(path, ns=(0, path.stat().st_mtime_ns))
    build = run_build(copy, command, limit)
    if build.code or build.late or not build.written:
        return None
    written = set(build.written)
    sources = [path for path in before if path.relative_to(copy.root).as_posix() not in written]
    read = [path for path in sources if path.exists() and path.stat().st_atime_ns] or sources
    inputs = [path.relative_to(copy.root) for path in read]
    outputs = [Path(path) for path in build.written]
    return LearnedBuild(command, _globs(inputs, few=0), _globs(outputs, few=_FEW))


def _globs(paths: Sequence[Path], *, few: int) -> list[str]:
    """A glob for the files of each folder with the same ending, if there are more than ``few``.

    A new file next to inputs may be an input, too, so these have a glob in any case.
    """
    alike = Counter((path.parent, path.suffix) for path in paths)
    globs: dict[str, None] = {}
    for path in paths:
        is_one_of_many = path.suffix and alike[path.parent, path.suffix] > few
        glob = PurePosixPath(path.parent, f"*{path.suffix}") if is_one_of_many else path
        globs[glob.as_posix()] = None
    return sorted(globs)
