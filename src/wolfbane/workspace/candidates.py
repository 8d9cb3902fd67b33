"""Finds files that look like tests, by name and content, in a folder without settings."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping
from pathlib import Path, PurePosixPath
from typing import Any

import msgspec

from wolfbane.basis.files import as_text
from wolfbane.kinds.protocols import Detects, kinds_with
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.vocabulary import SETTINGS_NAME

_NEVER = {"__pycache__", "node_modules", "build", "dist", "target", "blib"}
_INSTALLED = {"pyvenv.cfg", "CACHEDIR.TAG"}
_NAMED_LIKE_ONE = re.compile(
    r"(?:^|[._-])(?:tests?|specs?)(?:[._-]|$)|(?:Tests?|Specs?)$|^Test[A-Z]"
)
_CODE = frozenset(
    {
        ".c",
        ".cc",
        ".cpp",
        ".cs",
        ".cjs",
        ".dart",
        ".ex",
        ".exs",
        ".feature",
        ".go",
        ".groovy",
        ".hs",
        ".java",
        ".jl",
        ".js",
        ".jsx",
        ".kt",
        ".lua",
        ".m",
        ".mjs",
        ".php",
        ".pl",
        ".py",
        ".r",
        ".rb",
        ".rs",
        ".scala",
        ".sh",
        ".swift",
        ".t",
        ".tcl",
        ".ts",
        ".tsx",
    }
)


class Tree(msgspec.Struct):
    """The files below a folder, and the separate workspaces and repositories in it."""

    files: list[str] = msgspec.field(default_factory=list)
    workspaces: list[str] = msgspec.field(default_factory=list)
    repositories: list[str] = msgspec.field(default_factory=list)


def read_tree(root: Path) -> Tree:
    """Every file of a workspace, as a path from its root, without hidden and generated files."""
    tree = Tree()
    for folder, folders, names in os.walk(root):
        inside = Path(folder).relative_to(root).as_posix()
        if not _INSTALLED.isdisjoint(names):
            folders.clear()
            continue
        if inside != "." and SETTINGS_NAME in names:
            tree.workspaces.append(inside)
            folders.clear()
            continue
        if ".git" in folders or ".git" in names:
            tree.repositories.append(inside)
        folders[:] = sorted(f for f in folders if not f.startswith(".") and f not in _NEVER)
        tree.files += [name if inside == "." else f"{inside}/{name}" for name in sorted(names)]
    return tree


def test_files(
    root: Path, files: list[str], *, willing: bool = False
) -> Iterator[tuple[str, str, Mapping[str, Any]]]:
    """The kind of each file that contains tests, its path (for crates the manifest), and the
    settings that it needs.

    Only ``willing`` files need settings. A name that is not UTF-8 gives no suite, because settings
    cannot contain it.
    """
    for file in files:
        if as_text(file) != file:
            continue
        if kind := _kind_of(root, file):
            yield kind, file, {}
        elif willing:
            for kind, settings in settings_to_claim(root, file).items():
                yield kind, file, settings


def looks_like_tests(file: str) -> bool:
    """Whether the name of a code file looks like tests, in any language."""
    path = PurePosixPath(file)
    if any(kind.owns_name(path.name) for _, kind in _detecting()):
        return True
    if path.suffix.lower() == ".test":
        return True
    return path.suffix.lower() in _CODE and _NAMED_LIKE_ONE.search(path.stem) is not None


def is_code(file: str) -> bool:
    """Whether a file's ending is that of a programming language."""
    return PurePosixPath(file).suffix.lower() in _CODE


def settings_to_claim(root: Path, file: str) -> Mapping[str, Mapping[str, Any]]:
    """For a file that no kind claims: the settings with which a kind could run it, by kind."""
    by_kind = {name: kind.would_claim(root, file) for name, kind in _detecting()}
    return {name: settings for name, settings in by_kind.items() if settings}


def _kind_of(root: Path, file: str) -> str:
    return next((name for name, kind in _detecting() if kind.claims(root, file)), "")


def _detecting() -> Iterator[tuple[str, Detects[Suite]]]:
    return kinds_with(Detects)  # type: ignore[type-abstract]
