"""The storage of workspaces on a machine: contents by hash, and one folder per digest."""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import time
from collections.abc import Iterator, Mapping
from pathlib import Path

from wolfbane.cluster.here.packing import Manifest, PackedFile

KEPT_DAYS = 7.0


class MachineStore:
    """``folder`` contains ``contents``, by hash, and ``trees``, by digest of a manifest.

    A tree belongs to one run at a time, because tests change files. Another run of the same files
    at the same time gets a separate tree.
    """

    def __init__(self, folder: Path) -> None:
        self._contents, self._trees = folder / "contents", folder / "trees"
        for directory in (self._contents, self._trees):
            directory.mkdir(parents=True, exist_ok=True, mode=0o700)

    def lacking(self, manifest: Manifest) -> list[PackedFile]:
        """The files whose contents are missing; each content once."""
        wanted = {file.content: file for file in manifest.files if not file.link}
        return [file for content, file in wanted.items() if not self._place(content).exists()]

    def take(self, contents: Mapping[str, bytes]) -> None:
        """Store contents by hash. Raises OSError if the disk is full."""
        for content, data in contents.items():
            path = self._place(content)
            partial = path.with_name(f"{content}.{os.getpid()}")
            try:
                partial.write_bytes(data)
                partial.replace(path)
            except OSError:
                partial.unlink(missing_ok=True)
                raise

    @contextlib.contextmanager
    def tree(self, manifest: Manifest) -> Iterator[Path]:
        """A folder with all files of a workspace, as they were packed. Raises OSError."""
        for number in range(1000):
            path = self._trees / f"{manifest.digest}.{number}"
            path.mkdir(exist_ok=True, mode=0o700)
            with (path / "lock").open("ab") as lock:
                try:
                    fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                except OSError:
                    continue  # another run uses it
                os.utime(path)
                yield self._made(path, manifest)
                os.utime(path)
                return
        raise OSError("too many runs use this workspace on this machine")

    def tidy(self) -> None:
        """Remove trees and contents that were not used for a week."""
        limit = time.time() - KEPT_DAYS * 86_400
        for tree in self._trees.iterdir():
            with contextlib.suppress(OSError), (tree / "lock").open("ab") as lock:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                if tree.stat().st_mtime < limit:
                    shutil.rmtree(tree)
        for content in self._contents.iterdir():
            with contextlib.suppress(OSError):
                if content.stat().st_atime < limit and content.stat().st_mtime < limit:
                    content.unlink()

    def _place(self, content: str) -> Path:
        return self._contents / content

    def _made(self, path: Path, manifest: Manifest) -> Path:
        """The tree as in the manifest: missing or changed files are written again."""
        tree = path / "tree"
        tree.mkdir(exist_ok=True)
        if (alike := _alike_but_for_case(manifest)) and ignores_case(path):
            message = (
                f"this machine cannot store file names that "
                f"differ only in case: {' and '.join(alike)}"
            )
            raise OSError(message)
        for file in manifest.files:
            target = tree / file.path
            target.parent.mkdir(parents=True, exist_ok=True)
            if file.link:
                if not target.is_symlink() or str(target.readlink()) != file.content:
                    target.unlink(missing_ok=True)
                    target.symlink_to(file.content)
                continue
            kept = self._place(file.content)
            if not self._is_same(target, kept, file):
                target.unlink(missing_ok=True)
                shutil.copy2(kept, target)  # with the time: whoever compares times sees no change
                target.chmod(0o755 if file.runs else 0o644)
        return tree

    @staticmethod
    def _is_same(target: Path, kept: Path, file: PackedFile) -> bool:
        try:
            status, own = target.lstat(), kept.stat()
        except OSError:
            return False
        unchanged = status.st_size == own.st_size and status.st_mtime_ns == own.st_mtime_ns
        return unchanged and bool(status.st_mode & 0o100) == file.runs and not target.is_symlink()


def ignores_case(folder: Path) -> bool:
    """Whether names in a folder that differ only in case are the same name.

    ``folder`` has a lock.
    """
    return (folder / "LOCK").exists()


def _alike_but_for_case(manifest: Manifest) -> tuple[str, str] | None:
    """The first two paths that differ only in case, if any."""
    known: dict[str, str] = {}
    for file in manifest.files:
        other = known.setdefault(file.path.casefold(), file.path)
        if other != file.path:
            return other, file.path
    return None
