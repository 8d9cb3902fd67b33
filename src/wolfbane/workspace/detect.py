"""Detects suites from the files of a folder, if the settings define none."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from wolfbane.kinds.protocols import Detects
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.candidates import Tree, read_tree, test_files

_MANIFESTS = frozenset(
    {
        "pyproject.toml",
        "setup.py",
        "setup.cfg",
        "package.json",
        "Makefile.PL",
        "Build.PL",
        "cpanfile",
        "dist.ini",
        "composer.json",
        "Gemfile",
        "go.mod",
        "Cargo.toml",
    }
)


class Detected(msgspec.Struct, frozen=True):
    """The suites of a folder, and the separate workspaces in it.

    ``projects`` are the folders of the projects with tests, if the folder itself is none.
    """

    suites: list[Suite]
    workspaces: tuple[str, ...]
    projects: tuple[str, ...] = ()


class _SuitePlace(msgspec.Struct, frozen=True, order=True):
    """The unit of a suite: a project (the folder of a manifest; "." is the root's), a folder
    directly in it, and a kind. A suite of a project below the root contains all of its folders.
    """

    project: str
    top: str
    kind: str

    @property
    def folder(self) -> str:
        """The folder that names the suite."""
        if self.project == ".":
            return self.top
        return self.project


def detect(root: Path, *, willing: bool = False) -> Detected:
    """One suite for each kind: in each top-level folder that contains tests, and in each
    subproject.

    ``willing``: also for files that a kind can run only with certain settings.
    """
    tree = read_tree(root)
    projects = {file.rpartition("/")[0] for file in tree.files if _is_manifest(file)} - {""}
    places: dict[_SuitePlace, list[str]] = {}
    needed: dict[_SuitePlace, dict[str, Any]] = {}
    for kind, file, settings in test_files(root, tree.files, willing=willing):
        candidate = _place(kind, file, projects)
        needed.setdefault(candidate, {}).update(settings)
        around = [other.folder for other in places if other.kind == kind]
        if not _detecting(kind).manifest or not any(
            _is_inside(candidate.folder, other) for other in around
        ):
            places.setdefault(candidate, []).append(file)
    names: dict[str, None] = {}
    suites = []
    for candidate in sorted(places, key=lambda candidate: (candidate.folder, candidate.kind)):
        if candidate.folder == ".":
            name = candidate.kind
        else:
            name = re.sub(r"[^\w.-]", "-", candidate.folder)
        name = f"{name}-{candidate.kind}" if name in names else name
        names[name] = None
        suites.append(
            _suite(
                root,
                tree,
                candidate,
                name=name,
                files=places[candidate],
                settings=needed[candidate],
            )
        )
    return Detected(suites, tuple(tree.workspaces), _apart(root, tree, projects, places=places))


def _is_manifest(file: str) -> bool:
    return file.rpartition("/")[2] in _MANIFESTS


def _apart(
    root: Path, tree: Tree, projects: set[str], places: Iterable[_SuitePlace]
) -> tuple[str, ...]:
    """The projects with tests below a folder that only contains projects."""
    own = any(_is_manifest(file) for file in tree.files if "/" not in file)
    if own or (root / ".git").exists() or not places:
        return ()
    folders = sorted({*projects, *tree.repositories} - {"."})
    outer = [f for f in folders if not any(_is_inside(f, o) for o in folders if o != f)]
    used: dict[str, None] = {}
    for candidate in places:
        around = next((f for f in outer if _is_inside(candidate.folder, f)), None)
        if around is None:
            return ()
        used[around] = None
    if len(used) > 1:
        return tuple(used)
    return ()


def _place(kind: str, file: str, projects: set[str]) -> _SuitePlace:
    folder = file.rpartition("/")[0]
    if _detecting(kind).manifest:
        return _SuitePlace(folder or ".", folder or ".", kind)
    while folder and folder not in projects:
        folder = folder.rpartition("/")[0]
    if folder:
        return _SuitePlace(folder, folder, kind)
    return _SuitePlace(".", file.partition("/")[0] if "/" in file else ".", kind)


def _suite(
    root: Path,
    tree: Tree,
    candidate: _SuitePlace,
    name: str,
    files: Sequence[str],
    settings: Mapping[str, Any],
) -> Suite:
    kind = _detecting(candidate.kind)
    if kind.manifest:
        paths = [candidate.folder]
    else:
        paths = _paths(candidate, files)
    inside = [each for each in tree.workspaces if any(_is_inside(each, path) for path in paths)]
    folder = "."
    if not kind.manifest:
        folder = candidate.project
    suite: Suite = find_kind(candidate.kind).suite_type(
        name,
        candidate.kind,
        paths,
        folder=folder,
        exclude=inside,
        **kind.detected_settings(root, folder),
        **settings,
    )
    return suite


def _paths(candidate: _SuitePlace, files: Sequence[str]) -> list[str]:
    """The folders of a project with its test files, and globs for files in its own folder."""
    start = ""
    if candidate.project != ".":
        start = f"{candidate.project}/"
    glob = _detecting(candidate.kind).glob_for
    paths: dict[str, None] = {}
    for file in files:
        top, slash, _ = file.removeprefix(start).partition("/")
        paths.update(dict.fromkeys([f"{start}{top}"] if slash else [start + glob(top)]))
    return list(paths)


def _detecting(name: str) -> Detects[Suite]:
    """A kind that has claimed files."""
    kind = find_kind(name)
    assert isinstance(kind, Detects)
    return kind


def _is_inside(folder: str, other: str) -> bool:
    return other in (".", folder) or folder.startswith(f"{other}/")
