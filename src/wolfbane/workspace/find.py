"""Finds the workspace that contains a folder."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import replace

from wolfbane.errors import InputError, Problem
from wolfbane.workspace.detect import detect
from wolfbane.workspace.include import include, included_folders
from wolfbane.workspace.read import read_settings
from wolfbane.workspace.settings import Settings, Workspace
from wolfbane.workspace.vocabulary import SETTINGS_NAME


def open_workspace(start: Path, *, given: bool = False) -> Workspace:
    """The workspace of the nearest ``wolfbane.toml`` at or above ``start``; otherwise, as detected.

    ``given`` means that the user named the folder (or the file). Raises InputError.
    """
    start = start.resolve()
    if start.is_file():
        return _with_suites(Workspace(start.parent, read_settings(start), start))
    if not start.is_dir():
        raise InputError(Problem(f"folder '{start}' does not exist"))
    for folder in (start,) if given else (start, *start.parents):
        file = folder / SETTINGS_NAME
        if file.is_file():
            return _with_suites(Workspace(folder, read_settings(file), file))
    return _with_suites(Workspace(start, Settings(), None))


def _with_suites(workspace: Workspace) -> Workspace:
    """The workspace by its file, with those it includes; as detected if the file names no suite.

    Detection never includes nested workspaces.
    """
    folders = included_folders(workspace)
    inner = {folder: open_workspace(workspace.root / folder, given=True) for folder in folders}
    whole = include(workspace, inner)
    if whole.suites:
        return whole
    found = detect(workspace.root)
    settings = replace(workspace.settings, suite=found.suites)
    return replace(
        workspace, settings=settings, detected=True, nested=found.workspaces,
        projects=found.projects,
    )  # fmt: skip
