"""Packs the files of a workspace for machines, by content, so that nothing is sent twice."""

from __future__ import annotations

import hashlib
import os
import stat
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from fnmatch import fnmatchcase
from pathlib import Path

import msgspec

from wolfbane.basis.units import bytes_shown
from wolfbane.basis.units import size as size_of
from wolfbane.errors import InputError, Problem
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.workspace.git import ask_git
from wolfbane.workspace.settings import Workspace

PIECE = 8 << 20
"""Bytes of contents in one message, unless one file alone is larger."""
_SHOWN_FOLDERS = 5


class PackedFile(msgspec.Struct, frozen=True):
    """One file: its path, its type, and the hash of its content or the target of the link."""

    path: str
    content: str
    size: int = 0
    runs: bool = False
    link: bool = False


class Manifest(msgspec.Struct, frozen=True):
    """Every file of a workspace. Two workspaces with the same files have the same ``digest``."""

    files: tuple[PackedFile, ...]

    @property
    def digest(self) -> str:
        """A hash of all of it."""
        return hashlib.blake2b(msgspec.json.encode(self.files)).hexdigest()[:32]

    @property
    def size(self) -> int:
        """Bytes of all contents."""
        return sum(file.size for file in self.files)


def pack_workspace(workspace: Workspace) -> Manifest:
    """The files of a workspace to send, by its settings. Raises InputError."""
    cluster, results = workspace.settings.cluster, workspace.settings.workspace.results
    most = size_of(cluster.limit)
    return pack(workspace.root, cluster.include, cluster.exclude, left_out=[results], most=most)


def pack(
    root: Path, include: Sequence[str], exclude: Sequence[str], left_out: Iterable[str], most: int
) -> Manifest:
    """The files of a workspace to send: those that git tracks or would add, and ``include``.

    ``exclude`` are globs of files that are not sent; ``left_out`` are folders, such as the results.
    Raises InputError with the largest folders if the files have more than ``most`` bytes.
    """
    apart = tuple(f"{folder}/" for folder in left_out)
    paths = sorted(
        path
        for path in _listed(root, include)
        if not path.startswith(apart) and not any(_matches(path, glob) for glob in exclude)
    )
    files = [file for path in paths if (file := _packed(root, path)) is not None]
    manifest = Manifest(tuple(files))
    if manifest.size > most:
        raise InputError(_too_large(manifest, most))
    return manifest


def contents(root: Path, files: Iterable[PackedFile]) -> Iterator[dict[str, bytes]]:
    """The contents of files by hash, in pieces. Raises InputError if a file has changed."""
    piece: dict[str, bytes] = {}
    size = 0
    for file in files:
        data = _read(root, file.path)
        if _hash(data) != file.content:
            raise InputError(
                Problem("the file changed during packing", file.path, hint="try again")
            )
        if piece and size + len(data) > PIECE:
            yield piece
            piece, size = {}, 0
        piece[file.content] = data
        size += len(data)
    if piece:
        yield piece


def _listed(root: Path, include: Sequence[str]) -> set[str]:
    answer = ask_git(root, "ls-files", "-z", "--cached", "--others", "--exclude-standard")
    if answer.code == 0:
        paths = {path for path in answer.output.split("\0") if path}
    else:
        paths = set(_walked(root))
    for glob in include:
        paths |= {
            path.relative_to(root).as_posix()
            for file in root.glob(glob)
            for path in (file.rglob("*") if file.is_dir() else [file])
            if not path.is_dir() or path.is_symlink()
        }
    return paths


def _walked(root: Path) -> Iterator[str]:
    """Every file, except the folders with installed tools."""
    apart = {".git", "__pycache__", *(n for kind in KINDS for n in find_kind(kind).tool_folders)}
    for folder, folders, names in os.walk(root):
        folders[:] = [name for name in folders if name not in apart]
        inside = Path(folder)
        links = [name for name in folders if (inside / name).is_symlink()]
        for name in (*names, *links):
            yield (inside / name).relative_to(root).as_posix()


def _packed(root: Path, path: str) -> PackedFile | None:
    """A file to send; None for a tracked file that no longer exists, a pipe, or a socket."""
    file = root / path
    try:
        status = file.lstat()
    except OSError:
        return None
    if stat.S_ISLNK(status.st_mode):
        return PackedFile(path, str(file.readlink()), link=True)
    if not stat.S_ISREG(status.st_mode):
        return None
    data = _read(root, path)
    return PackedFile(path, _hash(data), len(data), runs=bool(status.st_mode & stat.S_IXUSR))


def _read(root: Path, path: str) -> bytes:
    try:
        return (root / path).read_bytes()
    except OSError as error:
        raise InputError(Problem(f"cannot pack the file: {error.strerror}", path)) from None


def _hash(data: bytes) -> str:
    return hashlib.blake2b(data).hexdigest()[:32]


def _matches(path: str, glob: str) -> bool:
    pattern = glob.rstrip("/")
    return fnmatchcase(path, pattern) or fnmatchcase(path, f"{pattern}/*")


def _too_large(manifest: Manifest, most: int) -> Problem:
    sizes: Counter[str] = Counter()
    for file in manifest.files:
        sizes[file.path.rpartition("/")[0].partition("/")[0] or "."] += file.size
    largest = ", ".join(
        f"{name} {bytes_shown(size)}" for name, size in sizes.most_common(_SHOWN_FOLDERS)
    )
    whole, limit = bytes_shown(manifest.size), bytes_shown(most)
    message = f"the workspace is {whole}, but the limit is {limit}; largest: {largest}"
    return Problem(message, hint="exclude some files with [cluster] exclude")
