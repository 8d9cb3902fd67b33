"""Finds the suites whose settings differ from a git revision."""

from __future__ import annotations

import tomllib
from collections.abc import Collection, Iterator
from typing import Any

from wolfbane.basis.files import read_regular
from wolfbane.workspace.git import ask_git
from wolfbane.workspace.settings import Workspace
from wolfbane.workspace.vocabulary import SETTINGS_NAME

_NO_EFFECT = frozenset({"tag", "preset", "keep", "mail", "load", "cluster", "retry"})
"""Tables that do not change the outcome of a test."""


def changed_suites(workspace: Workspace, revision: str, changed: Collection[str]) -> dict[str, str]:
    """The suites whose settings differ from a revision, each with the path of the settings."""
    suites: dict[str, str] = {}
    for folder in workspace.included:
        file = f"{folder}/{SETTINGS_NAME}"
        if file in changed:
            inside = (s.name for s in workspace.suites if s.name.startswith(f"{folder}/"))
            suites.update(dict.fromkeys(inside, file))
    if workspace.file is not None and (file := workspace.file.name) in changed:
        before = ask_git(workspace.root, "show", f"{revision}:./{file}")
        now = _table(read_regular(workspace.file).decode("utf-8", "replace"))
        old = _table("" if before.code else before.output)
        suites.update(dict.fromkeys(_differing(workspace, old, now), file))
    elif workspace.file is None and SETTINGS_NAME in changed:  # it was removed
        suites.update(dict.fromkeys((suite.name for suite in workspace.suites), SETTINGS_NAME))
    return suites


def _differing(workspace: Workspace, old: dict[str, Any], now: dict[str, Any]) -> Iterator[str]:
    """The suites that a difference between two settings files concerns."""
    keys = {key for key in old.keys() | now.keys() if old.get(key) != now.get(key)}
    suites = _changed_names(_by_name(old), _by_name(now))
    services = _changed_names(old.get("service", {}), now.get("service", {}))
    browsers = _changed_names(old.get("browser", {}), now.get("browser", {}))
    for suite in workspace.suites:
        if (
            keys - _NO_EFFECT - {"suite", "service", "browser"}
            or suite.name in suites
            or not services.isdisjoint(suite.needs or ())
            or not browsers.isdisjoint(suite.browsers)
        ):
            yield suite.name


def _changed_names(old: dict[str, Any], now: dict[str, Any]) -> set[str]:
    return {name for name in old.keys() | now.keys() if old.get(name) != now.get(name)}


def _by_name(settings: dict[str, Any]) -> dict[str, Any]:
    suites = settings.get("suite", [])
    return {suite.get("name", ""): suite for suite in suites if isinstance(suite, dict)}


def _table(text: str) -> dict[str, Any]:
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        return {}
