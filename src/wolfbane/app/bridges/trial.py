"""Runs a command in a copy of a folder, and records its output, the files it writes, and its exit
code.
"""

from __future__ import annotations

import fcntl
import os
import shutil
import tempfile
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec

from wolfbane.errors import InputError, Problem
from wolfbane.kinds.bridge.runner.launching import launch
from wolfbane.kinds.bridge.runner.start_limit import StartLimit
from wolfbane.kinds.registry import KINDS, find_kind

_APART = (".git", ".wolfbane", "__pycache__")
_LARGE = 10**9
_CLONE = 0x40049409
"""FICLONE of Linux: a file that shares its blocks with another file until one of them changes."""


class Trial(msgspec.Struct, frozen=True):
    """The result of a command.

    ``written`` are the files that it created or changed, relative to the folder.

    ``printed`` is the standard output, ``output`` the end of all output.
    """

    command: Sequence[str]
    code: int
    printed: bytes
    output: str
    seconds: float
    written: Sequence[str]
    late: bool


class TrialFolder:
    """A copy of a folder in which commands are tried."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def run(self, command: Sequence[str], limit: float) -> Trial:
        """Run a command, for ``limit`` seconds at most. Raises InputError if it cannot start."""
        before = self._stamps()
        until = StartLimit(limit, 1, 0.0, by_test=False)
        printed: list[bytes] = []
        began = time.monotonic()
        try:
            end = launch(command, {}, until, printed.append, apart=True, folder=str(self.root))
        except OSError as error:
            message = f"cannot start '{command[0]}': {error.strerror}"
            raise InputError(Problem(message)) from None
        after = self._stamps()
        written = [path for path, stamp in after.items() if before.get(path) != stamp]
        seconds = time.monotonic() - began
        whole = b"".join(printed)
        return Trial(
            command=command,
            code=end.code,
            printed=whole,
            output=end.output,
            seconds=seconds,
            written=sorted(written),
            late=end.late,
        )

    def files(self) -> list[Path]:
        """All files of the folder, without links."""
        every = (path for path in self.root.rglob("*") if "__pycache__" not in path.parts)
        return [path for path in every if path.is_file() and not path.is_symlink()]

    def _stamps(self) -> dict[str, tuple[int, int]]:
        stamps = {path: path.stat() for path in self.files()}
        return {
            str(path.relative_to(self.root)): (status.st_mtime_ns, status.st_size)
            for path, status in stamps.items()
        }


@contextmanager
def copied(folder: Path, *, large: bool = False) -> Iterator[TrialFolder]:
    """A copy of a folder. Folders with installed tools are linked, because they can be large.

    Raises InputError for a folder of more than a gigabyte, unless it may be ``large``.
    """
    tools = {name for kind in KINDS for name in find_kind(kind).tool_folders}
    if not large and (size := _size(folder, tools)) > _LARGE:
        message = (
            f"the commands run in a copy of the folder, "
            f"but the folder is large ({size / 1e9:.1f} GB)"
        )
        raise InputError(Problem(message, hint="use --yes to copy it anyway"))
    with tempfile.TemporaryDirectory(prefix="wolfbane-learn-") as scratch:
        root = Path(scratch) / folder.resolve().name
        apart = shutil.ignore_patterns(*_APART, *tools)
        shutil.copytree(folder, root, symlinks=True, ignore=apart, copy_function=_copy)
        for name in tools:
            if (folder / name).is_dir():
                (root / name).symlink_to((folder / name).resolve())
        yield TrialFolder(root)


def _size(folder: Path, tools: Iterable[str]) -> int:
    """Bytes of all files that would be copied."""
    apart = {*_APART, *tools}
    size = 0
    for parent, folders, names in os.walk(folder):
        folders[:] = [name for name in folders if name not in apart]
        size += sum(Path(parent, name).lstat().st_size for name in names)
    return size


def _copy(source: str, target: str) -> None:
    """Copy a file, without its content if the file system can share it."""
    with Path(source).open("rb") as old, Path(target).open("wb") as new:
        try:
            fcntl.ioctl(new, _CLONE, old.fileno())
        except OSError:
            shutil.copyfileobj(old, new)
    shutil.copystat(source, target)
