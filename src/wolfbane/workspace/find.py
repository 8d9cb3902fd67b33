"""Finds the workspace that contains a folder."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import replace

from wolfbane.basis.files import is_for_results
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
    workspace = _nearest(start, given=given)
    _check_results(workspace)
    return workspace


def _check_results(workspace: Workspace) -> None:
    """Raise InputError if results would be written to a folder that is not the workspace's.

    Settings, and links, may be from a stranger: they must not direct files to any other folder,
    unless that folder already is one for results.
    """
    folder = workspace.results
    if not folder.resolve().is_relative_to(workspace.root.resolve()) and not is_for_results(folder):
        message = f"the folder for results, {folder}, is outside of the workspace"
        hint = f"if it is yours, allow it: mkdir -p {folder} && echo '*' > {folder}/.gitignore"
        raise InputError(Problem(message, hint=hint))
    if folder.is_dir():
        links = [each.name for each in folder.iterdir() if each.is_symlink()]
    else:
        links = []
    if links:
        message = f"'{min(links)}' in the folder for results, {folder}, is a link"
        raise InputError(
            Problem(message, hint="remove it, or set 'results' to the folder you want")
        )


def _nearest(start: Path, *, given: bool) -> Workspace:
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
    suites = detect(workspace.root)
    settings = replace(workspace.settings, suite=suites.suites)
    return replace(
        workspace,
        settings=settings,
        detected=True,
        nested=suites.workspaces,
        projects=suites.projects,
    )
