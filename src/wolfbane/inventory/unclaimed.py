"""Finds files that look like tests but belong to no suite, and gives advice."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import PurePosixPath

from wolfbane.basis.files import as_text
from wolfbane.inventory.scan import Inventory
from wolfbane.kinds.programs import STARTERS
from wolfbane.selection.match import path_pattern
from wolfbane.workspace.candidates import (
    is_code,
    looks_like_tests,
    read_tree,
    settings_to_claim,
)

SHOWN = 3
_FOLDERS = frozenset({"test", "tests", "t", "spec", "specs", "__tests__"})
_SCRIPT = re.compile(r"(?:run[-_]?)?(?:all[-_]?)?tests?|run[-_]?all|all|(?:unit)?test[-_]?all")
_GENERAL = (
    "add them to the paths of a suite in wolfbane.toml, which 'wolfbane init' writes, or connect "
    "their launcher: wolfbane bridge learn"
)


def unclaimed(inventory: Inventory) -> list[str]:
    """The files that look like tests and that no suite's paths or ``exclude`` contain.

    Their names show it, or words that a kind knows, or they are the code in a folder for tests
    from which no suite has a file: elsewhere, plain names are those of helpers.
    """
    workspace = inventory.workspace
    claimed = {
        *inventory.files,
        *(path for each in inventory.without_tests.values() for path in each),
    }
    left = [workspace.settings.workspace.results]
    left += [path for suite in workspace.suites for path in suite.exclude]
    unwanted = [re.compile(path_pattern(glob.rstrip("/")) + "(?:/.*)?") for glob in left]
    used = {folder for file in claimed for folder in _test_folders(file)}
    return [
        as_text(file)
        for file in read_tree(workspace.root).files
        if file not in claimed
        and (
            looks_like_tests(file)
            or settings_to_claim(workspace.root, file)
            or (is_code(file) and _is_idle(file, used))
        )
        and not any(glob.fullmatch(file) for glob in unwanted)
    ]


def _test_folders(file: str) -> Iterator[str]:
    parts = file.split("/")[:-1]
    for depth, part in enumerate(parts, 1):
        if part.lower() in _FOLDERS:
            yield "/".join(parts[:depth])


def _is_idle(file: str, used: set[str]) -> bool:
    folders = list(_test_folders(file))
    return bool(folders) and used.isdisjoint(folders)


def in_words(files: Sequence[str]) -> str:
    """``3 files look like tests but belong to no suite: ...``."""
    more = ""
    if len(files) > SHOWN:
        more = ", ..."
    many = "1 file looks"
    if len(files) != 1:
        many = f"{len(files)} files look"
    belong = "belong"
    if len(files) == 1:
        belong = "belongs"
    return f"{many} like tests but {belong} to no suite: {', '.join(files[:SHOWN])}{more}"


def how_to_claim(inventory: Inventory, files: Sequence[str]) -> list[str]:
    """Advice for running these files, one sentence each."""
    root, advice = inventory.workspace.root, []
    needed = {
        f"{key} = {str(value).lower()}"
        for file in files
        for settings in settings_to_claim(root, file).values()
        for key, value in settings.items()
    }
    if needed:
        keys = ", ".join(sorted(needed))
        advice.append(f"some need '{keys}' in their suite; 'wolfbane init' writes it")
    if script := next(filter(None, map(_start, files)), ""):
        advice.append(
            f"if a script starts them, connect it: wolfbane bridge learn --all '{script}'"
        )
    return [*advice, _GENERAL]


def _start(file: str) -> str:
    """The command of a script that starts all tests, by its name."""
    path = PurePosixPath(file)
    program = STARTERS.get(path.suffix, "")
    if program and _SCRIPT.fullmatch(path.stem.lower()):
        return f"{program} {file}"
    return ""
