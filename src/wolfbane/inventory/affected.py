"""Finds the test files that a change affects, and explains why."""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Collection, Mapping, Sequence

from wolfbane.inventory.files import suite_files
from wolfbane.inventory.imports import Imports
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.model import TestFile
from wolfbane.selection.match import path_pattern
from wolfbane.workspace.settings import Workspace


def affected(
    workspace: Workspace, files: Mapping[str, TestFile], changed: Collection[str]
) -> dict[str, str]:
    """The test files that changed paths affect, each with the reason.

    A change affects the file itself and all files that import it; a suite's ``inputs`` affect all
    of its files, including those that its kind knows (steps, the sources of a crate). Paths are
    relative to the workspace.
    """
    if not changed:
        return {}
    imports = Imports(workspace.root, changed)
    reached: dict[str, str] = {}
    for suite in workspace.suites:
        own = [file for file in files.values() if file.suite == suite.name]
        inputs = find_kind(suite.kind).inputs(workspace.root, suite)
        if cause := _input([*suite.inputs, *inputs], changed):
            reached.update({file.path: f"suite {suite.name} depends on {cause}, which has changed"
                          for file in own})  # fmt: skip
        elif own:
            reached.update(_reached(workspace, suite, inputs, own, imports, changed))
    return reached


def sources_of(
    workspace: Workspace, files: Mapping[str, TestFile], paths: Collection[str]
) -> list[str]:
    """These test files, and all files of the workspace that they depend on, sorted."""
    imports = Imports(workspace.root)
    found = set(paths)
    for suite in workspace.suites:
        own = [file for file in files.values() if file.suite == suite.name and file.path in found]
        inputs = find_kind(suite.kind).inputs(workspace.root, suite)
        importers, _ = _importers(workspace, suite, inputs, own, imports)
        found.update(importers)
    return sorted(found)


def _input(inputs: Sequence[str], changed: Collection[str]) -> str:
    """A changed path that all tests of a suite depend on."""
    patterns = [re.compile(path_pattern(glob.rstrip("/")) + "(?:/.*)?") for glob in inputs]
    matching = (p for p in sorted(changed) if any(glob.fullmatch(p) for glob in patterns))
    return next(matching, "")


def _reached(
    workspace: Workspace, suite: Suite, inputs: Sequence[str], files: Sequence[TestFile],
    imports: Imports, changed: Collection[str],
) -> dict[str, str]:  # fmt: skip
    """The affected files of a suite, with the shortest chain of imports."""
    importers, needed = _importers(workspace, suite, inputs, files, imports)
    way: dict[str, str] = {path: "" for path in sorted(changed) if path in importers}
    waiting = deque(way)
    while waiting:
        path = waiting.popleft()
        for importer in importers[path]:
            if importer not in way:
                way[importer] = path
                waiting.append(importer)
    return {path: _words(path, way) for path in needed if path in way}


def _importers(
    workspace: Workspace, suite: Suite, inputs: Sequence[str], files: Sequence[TestFile],
    imports: Imports,
) -> tuple[dict[str, list[str]], dict[str, list[str]]]:  # fmt: skip
    """All files that the test files of a suite depend on, each with the files that import it; and
    what each test file needs besides its imports.
    """
    kind = find_kind(suite.kind)
    reader = kind.import_reader()
    shared: list[str] = []
    if reader:
        patterns = [f"*{suffix}" for suffix in reader.suffixes]
        inside = suite_files(workspace.root, inputs, patterns, ())
        shared = [path for path in inside if path.endswith(reader.suffixes)]
    needed = {file.path: [*file.depends, *shared] for file in files}
    importers: dict[str, list[str]] = {
        path: [] for own, paths in needed.items() for path in (own, *paths)
    }
    if reader:
        roots = (*kind.import_roots(suite), *inputs)
        importers = imports.importers(importers, reader, roots)
    for path, paths in needed.items():
        for other in paths:
            importers[other].append(path)
    return importers, needed


def _words(path: str, way: Mapping[str, str]) -> str:
    if not way[path]:
        return "the file has changed"
    steps = []
    while path := way[path]:
        steps.append(path)
    return f"it depends on {', which depends on '.join(steps)}, which has changed"
