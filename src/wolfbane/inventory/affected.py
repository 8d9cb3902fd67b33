"""Finds the test files that a change affects, and explains why."""

from __future__ import annotations

import re
import shlex
from collections import deque
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import Any

import msgspec
from msgspec import Struct, field

from wolfbane.inventory.files import suite_files
from wolfbane.inventory.imports import Imports
from wolfbane.kinds.compiled import is_compiled
from wolfbane.kinds.imports import places
from wolfbane.kinds.protocols import FollowsImports, untraced_sources, usual_import_roots
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.source_tree import SourceTree
from wolfbane.kinds.suite import Suite
from wolfbane.model import TestFile
from wolfbane.results.quarantine import NAME as QUARANTINE_NAME
from wolfbane.selection.match import path_pattern
from wolfbane.workspace.settings import Workspace
from wolfbane.workspace.vocabulary import SETTINGS_NAME

_HARMLESS = frozenset({SETTINGS_NAME, QUARANTINE_NAME, ".gitignore", ".gitattributes"})
"""Names of files whose effect on tests is known to be none, or is found in another way."""


_MANIFEST = "setup.py"
"""A manifest that is also a source. The tests use none of what it imports."""


class Affected(Struct, frozen=True):
    """The effect of changed files: ``files`` are test files, each with the reason.

    ``unknown`` are changed files that no test is known to depend on.
    """

    files: Mapping[str, str] = field(default_factory=dict)
    unknown: Sequence[str] = ()


def affected(
    workspace: Workspace,
    files: Mapping[str, TestFile],
    changed: Collection[str],
    settings: Mapping[str, str] | None = None,
) -> Affected:
    """The test files that changed paths affect.

    A change affects the file itself and all files that import or mention it; a suite's ``inputs``,
    and those of its kind, affect all of its files; with a ``build``, except for the test files
    among them, which affect themselves and the test files that mention them. ``settings`` are the
    suites whose settings changed, each with the path of the settings. Paths are relative to the
    workspace.
    """
    if not changed:
        return Affected()
    imports = Imports(workspace.root, changed)
    reached: dict[str, str] = {}
    known: set[str] = set()
    for suite in workspace.suites:
        own = {file.path: file for file in files.values() if file.suite == suite.name}
        graph = _Graph(workspace, suite, own, imports=imports)
        known.update(path for path in changed if graph.has(path))
        if setting := (settings or {}).get(suite.name):
            reached.update(
                dict.fromkeys(own, f"its suite is set up in {setting}, which has changed")
            )
        elif cause := graph.cause(changed):
            message = f"suite {suite.name} {cause[1]} {cause[0]}, which has changed"
            reached.update(dict.fromkeys(own, message))
        else:
            reached.update(graph.reached(changed))
    unknown = [
        p for p in sorted(changed) if p not in known and p.rpartition("/")[2] not in _HARMLESS
    ]
    return Affected(reached, unknown)


def sources_of(
    workspace: Workspace, files: Mapping[str, TestFile], paths: Collection[str]
) -> list[str]:
    """These test files, and all sources of the workspace that they depend on, sorted.

    Data files are not among them: tests may write them.
    """
    imports = Imports(workspace.root)
    sources = set(paths)
    for suite in workspace.suites:
        own = {f.path: f for f in files.values() if f.suite == suite.name and f.path in sources}
        if own:
            sources.update(path for file in own.values() for path in file.depends)
            graph = _Graph(workspace, suite, own, imports=imports)
            sources.update(path for path in graph.importers if imports.is_source(path))
    return sorted(sources)


class _Graph:
    """All files that the test files of a suite depend on, as far as their text shows it."""

    def __init__(
        self, workspace: Workspace, suite: Suite, files: Mapping[str, TestFile], imports: Imports
    ) -> None:
        root, kind = workspace.root, find_kind(suite.kind)
        follows = kind if isinstance(kind, FollowsImports) else None
        self._own, self._imports = follows.import_reader() if follows else None, imports
        inputs = [*suite.inputs, *kind.inputs(root, suite)]
        self._inputs = _patterns(inputs)
        # A build reads the sources of all tests, but a test does not depend on those of others.
        self._apart = {file.path for file in files.values()} if suite.build else set[str]()
        self._untraced = _patterns(untraced_sources(root, suite))
        # If a compiler left the sources of each test, it is known which tests depend on one.
        noted = [
            set(file.depends) if is_compiled(root / path) else set[str]()
            for path, file in files.items()
        ]
        self._noted = set[str]().union(*noted) if all(noted) else set[str]()
        self._traced_inputs = self._apart | self._noted if suite.build else set[str]()
        self._named = named_files(workspace, suite, imports.tree)
        # A glob of other files is left out, because it would be looked for in the whole workspace.
        with_sources = [
            glob
            for glob in inputs
            if PurePosixPath(glob).suffix in ("", ".*") or imports.is_source(glob)
        ]
        shared = [
            path
            for path in suite_files(root, with_sources, ("*",), exclude=())
            if imports.is_source(path)
            and path.rpartition("/")[2] != _MANIFEST
            and path not in self._apart
        ]
        self._needed = {
            file.path: [*file.depends, *shared, *self._named] for file in files.values()
        }
        starts = dict.fromkeys(p for own, paths in self._needed.items() for p in (own, *paths))
        tops = follows.import_roots(root, suite) if follows else usual_import_roots(suite)
        roots = [top.strip("/") for top in tops]
        self.importers = imports.importers(starts, self._own, roots)
        for path, paths in self._needed.items():
            for other in paths:
                self.importers[other].append(path)
        for other, path in _mentioned(root, self._apart):
            self.importers[other].append(path)

    def has(self, path: str) -> bool:
        """Whether it is known how a path affects the suite."""
        patterns = (*self._inputs, *self._untraced)
        return path in self.importers or any(glob.fullmatch(path) for glob in patterns)

    def cause(self, changed: Collection[str]) -> tuple[str, str] | None:
        """A changed path that affects all tests of the suite, and how; None if there is none."""
        for path in sorted(changed):
            is_input = any(glob.fullmatch(path) for glob in self._inputs)
            if path in self._named or (is_input and path not in self._traced_inputs):
                return path, "depends on"
            is_traced = path in self._needed or path in self._noted
            if not is_traced and any(glob.fullmatch(path) for glob in self._untraced):
                return path, "may depend on"
        return None

    def reached(self, changed: Collection[str]) -> dict[str, str]:
        """The affected test files, with the shortest chain of imports."""
        way: dict[str, str] = {path: "" for path in sorted(changed) if path in self.importers}
        unclear: dict[str, str] = {}
        for path in self.importers:
            text, endings = self._imports.unclear(path, self._own)
            maybe = [other for other in sorted(changed) if text and other.endswith(endings)]
            if maybe and path not in way:
                way[path] = ""
                why = f"imports a name that is known only when it runs ({text})"
                unclear[path] = f"{why}, and {maybe[0]} has changed"
        waiting = deque(way)
        while waiting:
            path = waiting.popleft()
            for importer in self.importers[path]:
                if importer not in way:
                    way[importer] = path
                    waiting.append(importer)
        return {path: _words(path, way, unclear) for path in self._needed if path in way}


def _mentioned(root: Path, paths: Collection[str]) -> Iterator[tuple[str, str]]:
    """Pairs of these files: the text of the second has the name of the first, as an include has."""
    named: dict[bytes, list[str]] = {}
    for path in paths:
        named.setdefault(PurePosixPath(path).stem.encode(), []).append(path)
    for path in paths:
        try:
            tokens = set(re.findall(rb"[\w-]+", (root / path).read_bytes()))
        except OSError:
            continue
        yield from ((other, path) for word in tokens for other in named.get(word, ()))


def _patterns(globs: Sequence[str]) -> list[re.Pattern[str]]:
    return [re.compile(path_pattern(glob.rstrip("/")) + "(?:/.*)?") for glob in globs]


def _words(path: str, way: Mapping[str, str], unclear: Mapping[str, str]) -> str:
    steps = []
    while way[path]:
        path = way[path]
        steps.append(path)
    end = unclear.get(path, "has changed")
    if not steps:
        if path in unclear:
            return f"it {end}"
        return "the file has changed"
    return f"it depends on {', which depends on '.join(steps)}, which {end}"


_NO_FILES = ("name", "kind", "paths", "exclude", "tags", "inputs", "browsers", "needs")
"""Keys of a suite that name no file that its tests use, or that are handled elsewhere."""


def named_files(workspace: Workspace, suite: Suite, tree: SourceTree) -> list[str]:
    """The files that the settings of a suite name, those of its services and its environments."""
    own = {key: value for key, value in msgspec.to_builtins(suite).items() if key not in _NO_FILES}
    named = [*_files(own, suite.folder, tree)]
    for name in suite.needs or ():
        if service := workspace.settings.service.get(name):
            named += _files(msgspec.to_builtins(service), service.folder, tree)
    if workspace.waits_for_environment(suite):
        named += _files(workspace.settings.env, ".", tree)
    return list(dict.fromkeys(named))


def _files(value: Any, folder: str, tree: SourceTree) -> Iterator[str]:
    for text in _texts(value):
        try:
            tokens = shlex.split(text)
        except ValueError:
            tokens = text.split()
        for word in tokens:
            path = word.rpartition("=")[2]
            yield from (
                candidate for candidate in places(path, [folder, "."]) if tree.exists(candidate)
            )


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict | list):
        for inner in value.values() if isinstance(value, dict) else value:
            yield from _texts(inner)
