"""Resolves a PATH of the command line: a file, folder, glob, FILE:LINE or address."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path, PurePath

from wolfbane.errors import InputError, Problem, nearest
from wolfbane.inventory.scan import Inventory
from wolfbane.kinds.compiled import is_compiled
from wolfbane.model import Block, Test, TestFile
from wolfbane.selection import EVERYTHING, Expression, Term, any_of

_LINE = re.compile(r"(.+):(\d+)")


def paths_expression(inventory: Inventory, paths: Sequence[str], folder: Path) -> Expression:
    """The union of the paths, read from ``folder``. Raises InputError with every problem."""
    problems: list[Problem] = []
    expressions: list[Expression] = []
    for path in paths:
        try:
            expressions.append(_one(inventory, path, folder))
        except InputError as error:
            problems += error.problems
    if problems:
        raise InputError(*problems)
    if expressions:
        return any_of(expressions)
    return EVERYTHING


def _one(inventory: Inventory, path: str, folder: Path) -> Expression:
    root = inventory.workspace.root
    if not path.strip():
        raise InputError(
            Problem("PATH must not be empty", hint="without a PATH, all tests are selected")
        )
    whole = _on_disk(root, path, folder)
    if whole is not None:
        if whole == ".":
            return EVERYTHING
        return _file(inventory, whole)
    for mark in re.finditer("#", path):
        if file := _on_disk(root, path[: mark.start()], folder):
            return Term("address", f"{file}{path[mark.start() :]}", "quoted")
    if (line := _LINE.fullmatch(path)) and (file := _on_disk(root, line[1], folder)):
        return _at_line(inventory, file, int(line[2]))
    if any(sign in path for sign in "*?"):
        inside = os.path.relpath(folder, root)
        if inside == ".":
            glob = path
        else:
            glob = f"{inside}/{path}"
        return Term("file", glob)
    raise InputError(
        Problem(f"'{path}' does not exist", hint=_like(inventory, path.partition("#")[0]))
    )


def _file(inventory: Inventory, path: str) -> Expression:
    """A file or folder, and the compiled tests whose own source it is."""
    root = inventory.workspace.root
    compiled = [
        file.path
        for file in inventory.files.values()
        if file.depends[:1] == (path,) and is_compiled(root / file.path)
    ]
    return any_of(Term("file", each, "quoted") for each in (path, *compiled))


def _on_disk(root: Path, path: str, folder: Path) -> str | None:
    """The path relative to the workspace: first in the user's folder, then in the root."""
    for start in (folder, root):
        file = Path(os.path.normpath(start / path))
        if file.exists():
            if file != root and root not in file.parents:
                raise InputError(Problem(f"'{path}' is outside the workspace {root}"))
            return file.relative_to(root).as_posix()
    return None


def _like(inventory: Inventory, path: str) -> str:
    path = path.rstrip("/")
    folders = {parent.as_posix() for file in inventory.files for parent in PurePath(file).parents}
    close = nearest(path, {*inventory.files, *folders - {"."}}) or nearest(
        path.rpartition("/")[2], (file.rpartition("/")[2] for file in inventory.files)
    )
    if close:
        return f"did you mean {close}?"
    return ""


def _at_line(inventory: Inventory, path: str, line: int) -> Expression:
    """The tests whose source contains a line; otherwise, the whole class around it."""
    file = inventory.files.get(path)
    if file is None:
        return _file(inventory, path)
    covering = [test for test in file.tests if not test.name or _covers(test, line)]
    if covering:
        return any_of(Term("address", test.address, "quoted") for test in covering)
    blocks = [b for b in file.blocks if b.start <= line <= b.end and _holds_any(b, file)]
    if blocks:
        inner = max(blocks, key=lambda block: (block.start, -block.end))
        if not inner.name:
            inside = [test for test in file.tests if inner.start <= test.line <= inner.end]
            return any_of(Term("address", test.address, "quoted") for test in inside)
        return Term("address", f"{path}#{inner.name}", "quoted")
    if not file.complete:
        return Term("address", f"{path}:{line}", "quoted")
    near = min(file.tests, key=lambda test: abs(test.line - line), default=None)
    hint = ""
    if near:
        hint = f"the closest test is {near.name} on line {near.line}"
    raise InputError(
        Problem(message="there is no test on this line", file=path, line=line, hint=hint)
    )


def _holds_any(block: Block, file: TestFile) -> bool:
    """Whether a block can be a test. A named block can, because its tests can be inherited."""
    return bool(block.name) or any(block.start <= t.line <= block.end for t in file.tests)


def _covers(test: Test, line: int) -> bool:
    return 0 < test.line <= line <= max(test.line, test.end)
