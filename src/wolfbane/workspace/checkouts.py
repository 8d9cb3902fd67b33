"""Private copies of the repository at a commit. Git creates them as worktrees, and runs share them.

Each has its own folder below the results: ``tree`` is the worktree, ``caches`` contains Wolfbane's
data about it, and ``ready.json`` is written when the tree is complete. Users of the tree hold a
shared lock. Code that creates, repairs or removes the tree has it exclusively.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import shutil
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

import msgspec

from wolfbane.basis.files import read_regular, results_folder, write_whole
from wolfbane.errors import InputError, Problem
from wolfbane.workspace.git import GitAnswer, ask_git, repository

FOLDER = "revisions"
_READY = "ready.json"
_LARGE_FILE = b"version https://git-lfs."
_SUBMODULES_WITHIN = 300.0


class Checkout(msgspec.Struct, frozen=True):
    """The repository at a commit. It cannot be removed while ``lock`` is open.

    ``warnings`` lists the parts of the commit that git could not provide.
    """

    folder: Path
    commit: str
    lock: BinaryIO
    warnings: Sequence[str] = ()

    @property
    def tree(self) -> Path:
        """The files of the commit."""
        return self.folder / "tree"


def open_checkout(results: Path, root: Path, commit: str, why: str) -> Checkout:
    """The copy of the repository around ``root`` at a commit: created, repaired, or reused.

    ``why`` is the start of the message of an InputError.
    """
    folder = results / FOLDER / commit[:16]
    try:
        results_folder(results)
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(Problem(f"{why}: {error}")) from None
    while True:
        lock = (folder / "lock").open("ab")
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            # Somebody makes it, or uses it: in both cases it is whole once the lock is shared.
            fcntl.flock(lock, fcntl.LOCK_SH)
            if (known := _warnings_of(folder)) is not None:
                return Checkout(folder=folder, commit=commit, lock=lock, warnings=known)
            lock.close()
            continue
        try:
            warnings = _made_or_mended(folder, root, commit, why=why)
        except BaseException:
            lock.close()
            raise
        fcntl.flock(lock, fcntl.LOCK_SH)
        # The change of a lock gives it up for a moment, in which a clean-up may come in between.
        if _warnings_of(folder) is not None:
            return Checkout(folder=folder, commit=commit, lock=lock, warnings=warnings)
        lock.close()


def remove_checkouts(results: Path, needed: set[str], *, dry_run: bool = False) -> int:
    """Remove the copies of commits that are neither needed nor in use; returns their bytes.

    ``needed`` are full hashes. Raises OSError.
    """
    size = 0
    short = {commit[:16] for commit in needed}
    for folder in sorted((results / FOLDER).glob("*")):
        if folder.name in short or not folder.is_dir():
            continue
        with _alone(folder) as free:
            if free:
                size += _size(folder)
                if not dry_run:
                    _remove(folder)
    return size


def _remove(folder: Path) -> None:
    tree = folder / "tree"
    top = ask_git(tree, "rev-parse", "--path-format=absolute", "--git-common-dir").output.strip()
    (folder / _READY).unlink(missing_ok=True)
    shutil.rmtree(folder)
    if top:
        ask_git(Path(top), "worktree", "prune")


@contextlib.contextmanager
def _alone(folder: Path) -> Iterator[bool]:
    with (folder / "lock").open("ab") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield False
        else:
            yield True


def _size(folder: Path) -> int:
    return sum(path.lstat().st_size for path in folder.rglob("*") if not path.is_dir())


def _warnings_of(folder: Path) -> Sequence[str] | None:
    """The parts that could not be provided; None if the copy is incomplete."""
    try:
        return list(json.loads(read_regular(folder / _READY))["warnings"])
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _made_or_mended(folder: Path, root: Path, commit: str, why: str) -> Sequence[str]:
    warnings, tree = _warnings_of(folder), folder / "tree"
    if warnings is not None and ask_git(tree, "rev-parse", "HEAD").output.strip() == commit:
        changed = ask_git(tree, "status", "--porcelain", "--untracked-files=no", compares=True)
        if not changed.code and not changed.output.strip():
            return warnings
        if ask_git(tree, "reset", "--hard", commit, compares=True).code == 0:
            return [*warnings, f"{why}: the copy contained changed files; they were restored"]
    return _made(folder, root, commit, why=why)


def _made(folder: Path, root: Path, commit: str, why: str) -> Sequence[str]:
    top, _ = repository(root, why)
    tree = folder / "tree"
    (folder / _READY).unlink(missing_ok=True)
    shutil.rmtree(tree, ignore_errors=True)
    ask_git(top, "worktree", "prune")
    add = ("worktree", "add", "--detach", "--force", str(tree), commit)
    answer = ask_git(top, *add, compares=True)
    if answer.code:
        shutil.rmtree(tree, ignore_errors=True)
        ask_git(top, "worktree", "prune")
        raise InputError(Problem(f"{why}: git cannot create a copy in {folder}: {answer.reason}"))
    warnings = [*_submodules(top, tree, why), *_large_files(tree, why)]
    try:
        write_whole(folder / _READY, json.dumps({"commit": commit, "warnings": warnings}))
    except OSError as error:
        raise InputError(Problem(f"{why}: cannot create the copy: {error}")) from None
    return warnings


def _submodules(top: Path, tree: Path, why: str) -> Iterator[str]:
    """Provide submodules, from existing copies if there are some."""
    if not (tree / ".gitmodules").is_file():
        return
    listed = ask_git(tree, "config", "--file", ".gitmodules", "--get-regexp", r"\.path$").output
    common = ask_git(top, "rev-parse", "--path-format=absolute", "--git-common-dir").output.strip()
    for line in listed.splitlines():
        key, _, path = line.partition(" ")
        name = key.removeprefix("submodule.").removesuffix(".path")
        answer = _submodule(tree, name, path, own=Path(common) / "modules" / name)
        if answer.code:
            yield f"{why}: submodule {path} is missing: {answer.reason}"


def _submodule(tree: Path, name: str, path: str, own: Path) -> GitAnswer:
    """Provide one submodule: from the repository's copy of it, or otherwise from its URL."""
    update = ("submodule", "update", "--recursive", "--checkout")
    if own.is_dir():
        # Without --init, which would write to the configuration that all copies share.
        settings = (
            f"submodule.{name}.url={own}",
            f"submodule.{name}.active=true",
            "protocol.file.allow=always",
        )
        here = [word for setting in settings for word in ("-c", setting)]
        answer = ask_git(tree, *here, *update, "--", path, within=_SUBMODULES_WITHIN)
        if answer.code == 0:
            return answer  # else the commit may be newer than the copy
    return ask_git(tree, *update, "--init", "--", path, within=_SUBMODULES_WITHIN)


def _large_files(tree: Path, why: str) -> Iterator[str]:
    """Files that are only pointers, because the program for large files is not set up."""
    attributes = tree / ".gitattributes"
    if not attributes.is_file() or b"filter=" not in attributes.read_bytes():
        return
    pointers = []
    for path in ask_git(tree, "ls-files", "-z").output.split("\0"):
        with contextlib.suppress(OSError), (tree / path).open("rb") as file:
            if file.read(len(_LARGE_FILE)) == _LARGE_FILE:
                pointers.append(path)
    if pointers:
        some = ", ".join(pointers[:3]) + (", ..." if len(pointers) > 3 else "")
        are = "1 large file was not downloaded and is only a pointer"
        if len(pointers) != 1:
            are = f"{len(pointers)} large files were not downloaded and are only pointers"
        yield f"{why}: {are} here: {some}"
