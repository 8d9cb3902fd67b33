"""Finds the files that settings name: scripts of services, launchers, builds and value files."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import Any

import msgspec

from wolfbane.kinds.imports import places
from wolfbane.kinds.source_tree import SourceTree
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.settings import Workspace

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
            words = shlex.split(text)
        except ValueError:
            words = text.split()
        for word in words:
            path = word.rpartition("=")[2]
            yield from (place for place in places(path, [folder, "."]) if tree.exists(place))


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict | list):
        for inner in value.values() if isinstance(value, dict) else value:
            yield from _texts(inner)
