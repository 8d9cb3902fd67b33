"""Includes other workspaces in a workspace, to run them together: ``[workspace] include``.

Their suites are named ``FOLDER/SUITE``, and their settings are added to the outer ones. Different
definitions of the same name in two of them are an error.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from wolfbane.errors import InputError, Problem
from wolfbane.kinds.protocols import path_on_disk, relocated
from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.suite import Suite
from wolfbane.selection import And, Expression, Not, Or, Term, all_of, any_of, parse
from wolfbane.workspace.settings import Settings, Workspace, WorkspaceTable
from wolfbane.workspace.vocabulary import ENV_WORDS, SETTINGS_NAME


def include(outer: Workspace, inner: Mapping[str, Workspace]) -> Workspace:
    """The outer workspace with the included ones, by folder. Raises InputError."""
    merging = _Merging(outer)
    for folder, workspace in inner.items():
        merging.take(folder, workspace)
    if merging.problems:
        raise InputError(*merging.problems)
    return replace(outer, settings=merging.settings, included=tuple(inner))


def included_folders(workspace: Workspace) -> list[str]:
    """The folders with settings that ``include`` matches.

    Raises InputError if a pattern matches none.
    """
    folders: dict[str, None] = {}
    problems = []
    for glob in workspace.settings.workspace.include:
        places = sorted(workspace.root.glob(f"{glob.rstrip('/')}/{SETTINGS_NAME}"))
        if not places:
            hint = f"give a folder that contains a {SETTINGS_NAME}"
            message = f"'include': '{glob}' matches no workspace"
            problems.append(
                Problem(
                    message=message,
                    file=workspace.file.name if workspace.file else "",
                    line=0,
                    hint=hint,
                )
            )
        folders |= {p.parent.relative_to(workspace.root).as_posix(): None for p in places}
    if problems:
        raise InputError(*problems)
    return list(folders)


class _Merging:
    def __init__(self, outer: Workspace) -> None:
        self.settings = outer.settings
        self.problems: list[Problem] = []
        self._root = outer.root

    def take(self, folder: str, inner: Workspace) -> None:
        own, theirs = self.settings, inner.settings
        file = f"{folder}/{SETTINGS_NAME}"
        services = {
            name: replace(s, folder=Relocation(self._root, folder).path(s.folder))
            for name, s in theirs.service.items()
        }
        suites = [_moved(self._root, suite, folder, settings=theirs) for suite in theirs.suite]
        tags = [replace(rule, match=str(within(rule.match, folder))) for rule in theirs.tag]
        retries = [replace(rule, match=str(within(rule.match, folder))) for rule in theirs.retry]
        self.settings = replace(
            own,
            workspace=self._table(file, own.workspace, theirs.workspace, folder=folder),
            suite=[*own.suite, *suites],
            tag=[*own.tag, *tags],
            retry=[*own.retry, *retries],
            param=self._union(file, "param", own.param, theirs=theirs.param),
            env=self._environments(file, own.env, theirs.env),
            service=self._union(file, "service", own.service, theirs=services),
            browser=self._union(file, "browser", own.browser, theirs=theirs.browser),
        )

    def _table(
        self, file: str, own: WorkspaceTable, theirs: WorkspaceTable, folder: str
    ) -> WorkspaceTable:
        leave_out = own.leave_out
        if theirs.leave_out:
            parts = [within(theirs.leave_out, folder)]
            leave_out = str(any_of([*([parse(leave_out)] if leave_out else []), *parts]))
        return replace(own, leave_out=leave_out, env=own.env or theirs.env)

    def _union(self, file: str, table: str, own: dict[str, Any], theirs: dict[str, Any]) -> Any:
        for name in own.keys() & theirs.keys():
            if own[name] != theirs[name]:
                self._differs(file, f"[{table}.{name}]")
        return {**own, **theirs}

    def _environments(
        self, file: str, own: Mapping[str, dict[str, Any]], theirs: Mapping[str, dict[str, Any]]
    ) -> dict[str, dict[str, Any]]:
        whole = {name: dict(values) for name, values in own.items()}
        for name, values in theirs.items():
            table = whole.setdefault(name, {})
            for key, value in values.items():
                if key in table and table[key] != value:
                    if key in ENV_WORDS and isinstance(value, list | str) and key != "extends":
                        table[key] = [*_as_list(table[key]), *_as_list(value)]
                    else:
                        self._differs(file, f"'{key}' of [env.{name}]")
                else:
                    table[key] = value
        return whole

    def _differs(self, file: str, what: str) -> None:
        folder = file.rpartition("/")[0]
        hint = f"rename it, or run that workspace alone: wolfbane run --workspace {folder}"
        message = f"{what} conflicts with a different definition in another included workspace"
        self.problems.append(Problem(message=message, file=file, line=0, hint=hint))


def _as_list(value: object) -> list[Any]:
    if isinstance(value, list):
        return list(value)
    return [value]


def _moved(root: Path, suite: Suite, folder: str, settings: Settings) -> Suite:
    """The suite with its files relative to the outer workspace."""
    to = Relocation(root, folder)
    own = settings.workspace
    default = WorkspaceTable.timeout
    moved: Suite = replace(
        relocated(suite, to),
        name=f"{folder}/{suite.name}",
        paths=[to.path(p) if path_on_disk(suite, p) == p else p for p in suite.paths],
        exclude=[to.path(glob) for glob in (*suite.exclude, own.results)],
        folder=to.path(suite.folder),
        timeout=suite.timeout or (own.timeout if own.timeout != default else None),
        inputs=to.paths(suite.inputs),
        outputs=to.paths(suite.outputs),
    )
    return moved


def within(text: str, folder: str) -> Expression:
    """An expression of an included workspace, with adapted paths and limited to its tests."""
    return all_of([Term("file", folder, "quoted"), _moved_terms(parse(text), folder)])


def _moved_terms(expression: Expression, folder: str) -> Expression:
    if isinstance(expression, Not):
        return Not(_moved_terms(expression.item, folder))
    if not isinstance(expression, Term):
        items = tuple(_moved_terms(item, folder) for item in expression.items)
        if isinstance(expression, And):
            return And(items)
        return Or(items)
    has_glob = any(mark in expression.value for mark in "*?")
    if expression.field == "suite" and expression.style != "regex":
        return replace(expression, value=f"{folder}/{expression.value}")
    if expression.field == "address" or (
        expression.field == "file" and (expression.style == "quoted" or has_glob)
    ):
        return replace(expression, value=f"{folder}/{expression.value}")
    return expression
