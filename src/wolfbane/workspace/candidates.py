"""Files that look like tests, by their names and what is in them, for a folder without settings."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath

from wolfbane.files import as_text
from wolfbane.workspace.vocabulary import SETTINGS_NAME

_NEVER = {"__pycache__", "node_modules", "build", "dist", "target", "blib"}
_INSTALLED = {"pyvenv.cfg", "CACHEDIR.TAG"}
AUTHOR_TESTS = "xt"
"""By custom of Perl's authors: tests that only a release needs."""
_PYTHON_NAME = re.compile(r"test(?!ing).*\.py|.*_test\.py")
"""A module ``testing`` is, by custom, one that helps others to test."""
_PYTHON_TEST = re.compile(rb"^\s*class\s+[^\s(:]+\(.*\):|^(?:async )?def test_|load_tests", re.M)
_NODE_TEST = re.compile(rb"""(?:from|require\()\s*['"]node:test['"]""")
_NAMED_LIKE_ONE = re.compile(
    r"(?:^|[._-])(?:tests?|specs?)(?:[._-]|$)|(?:Tests?|Specs?)$|^Test[A-Z]"
)
_CODE = frozenset({
    ".c", ".cc", ".cpp", ".cs", ".cjs", ".dart", ".ex", ".exs", ".feature", ".go", ".groovy", ".hs",
    ".java", ".jl", ".js", ".jsx", ".kt", ".lua", ".m", ".mjs", ".php", ".pl", ".py", ".r", ".rb",
    ".rs", ".scala", ".sh", ".swift", ".t", ".tcl", ".ts", ".tsx",
})  # fmt: skip


@dataclass
class Tree:
    """The files below a folder, and the folders in it that are workspaces of their own."""

    files: list[str] = field(default_factory=list)
    workspaces: list[str] = field(default_factory=list)


def read_tree(root: Path) -> Tree:
    """Every file of a workspace, as a path from its root; what is hidden or made is left out."""
    found = Tree()
    for folder, folders, names in os.walk(root):
        inside = Path(folder).relative_to(root).as_posix()
        if not _INSTALLED.isdisjoint(names):
            folders.clear()
            continue
        if inside != "." and SETTINGS_NAME in names:
            found.workspaces.append(inside)
            folders.clear()
            continue
        folders[:] = sorted(f for f in folders if not f.startswith(".") and f not in _NEVER)
        found.files += [name if inside == "." else f"{inside}/{name}" for name in sorted(names)]
    return found


def test_files(root: Path, files: list[str]) -> Iterator[tuple[str, str]]:
    """The kind of each file that holds tests, and its path; of crates the manifest.

    A name that is not UTF-8 makes no suite, for settings could not have it.
    """
    for file in files:
        if as_text(file) == file and (kind := _kind_of(root, file)):
            yield kind, file


def looks_like_tests(file: str) -> bool:
    """Whether a file of code is named like tests, in any language."""
    path = PurePosixPath(file)
    if path.suffix in (".t", ".feature"):
        return True
    return path.suffix.lower() in _CODE and _NAMED_LIKE_ONE.search(path.stem) is not None


def _kind_of(root: Path, file: str) -> str:
    name = file.rpartition("/")[2]
    if name.endswith(".t"):
        return "" if AUTHOR_TESTS in file.split("/")[:-1] else "tap"
    if name.endswith(".feature"):
        return "scenario"
    if name == "Cargo.toml":
        return "cargo"
    if _PYTHON_NAME.fullmatch(name):
        return "python" if _holds(root / file, _PYTHON_TEST) else ""
    if name.endswith((".js", ".mjs", ".cjs")):
        return "node" if _holds(root / file, _NODE_TEST) else ""
    return ""


def _holds(path: Path, pattern: re.Pattern[bytes]) -> bool:
    try:
        return path.is_file() and pattern.search(path.read_bytes()) is not None
    except OSError:
        return False
