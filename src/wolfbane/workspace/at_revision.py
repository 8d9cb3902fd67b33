"""Opens a workspace with the suites of a git revision."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path

from msgspec.structs import replace

from wolfbane.errors import InputError, Problem
from wolfbane.kinds.protocols import relocated
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.kinds.relocation import Relocation
from wolfbane.workspace.checkouts import open_checkout
from wolfbane.workspace.find import open_workspace
from wolfbane.workspace.git import ask_git, commit_of, repository, shown_revision
from wolfbane.workspace.settings import Parameter, Settings, Workspace
from wolfbane.workspace.suite_source import HERE, THERE, SuiteSource
from wolfbane.workspace.vocabulary import SETTINGS_NAME


def open_at(here: Workspace, revision: str, settings: str = THERE) -> Workspace:
    """The workspace with the suites of a revision, from git's copy of its commit.

    ``settings`` is the source of the suites' settings: THERE or HERE. Environments, parameter
    values, secrets, presets and records come from the current workspace in both cases.

    Raises InputError if there is no repository, no such revision, or no such folder in it.
    """
    why = f"--at {revision}"
    if not revision.strip():
        raise InputError(Problem("--at: the revision is empty"))
    commit = commit_of(here.root, revision, why)
    top, prefix = repository(here.root, why)
    checkout = open_checkout(here.results, here.root, commit, why=why)
    root = checkout.tree / prefix
    if not root.is_dir():
        raise InputError(Problem(f"{why}: folder '{prefix}' does not exist at this revision"))
    _link_tools(top, checkout.tree)
    workspace = _with_own_settings(here, root, revision, settings=settings)
    message = _settings_words(workspace, shown_revision(revision, commit), settings)
    source = SuiteSource(
        revision=revision, checkout=checkout, home=here.root, results=here.results, settings=message
    )
    suites = [relocated(suite, _FromHere(root, "", here.root)) for suite in workspace.suites]
    own = replace(workspace.settings, suite=suites)
    return replace(workspace, root=root, settings=own, source=source)


def _with_own_settings(here: Workspace, root: Path, revision: str, settings: str) -> Workspace:
    if settings == HERE:
        if here.file is None:
            message = f"--settings {HERE}: this folder has no {SETTINGS_NAME}"
            raise InputError(Problem(message, hint="omit --settings; the suites are then detected"))
        return here
    try:
        there = open_workspace(root, given=True)
    except InputError as error:
        wrong = [p._replace(file=f"{revision}:{p.file}" if p.file else "") for p in error.problems]
        hint = Problem(f"--settings {HERE} uses the settings of the current workspace")
        raise InputError(*wrong, hint) from None
    return replace(there, settings=_combined(here.settings, there.settings))


def _settings_words(workspace: Workspace, revision: str, settings: str) -> str:
    """The source of the suites' settings, for display."""
    if settings == HERE:
        return f"settings from the current {SETTINGS_NAME}"
    if workspace.file:
        return f"settings from {SETTINGS_NAME} at {revision}"
    return f"suites detected, because {revision} has no {SETTINGS_NAME}"


def _combined(here: Settings, there: Settings) -> Settings:
    """The settings of the revision, with the environments and the machine's data of the current
    workspace.
    """
    own = here.workspace
    table = replace(
        there.workspace,
        env=own.env,
        jobs=own.jobs,
        results=own.results,
        history=own.history,
        identity=own.identity,
    )
    return replace(
        there,
        workspace=table,
        param=_parameters(here.param, there.param),
        env=here.env,
        service={**here.service, **there.service},
        browser={**there.browser, **here.browser},
        preset=here.preset,
        mail=here.mail,
        keep=here.keep,
        load=here.load,
        cluster=here.cluster,
    )


def _parameters(
    here: Mapping[str, Parameter], there: Mapping[str, Parameter]
) -> dict[str, Parameter]:
    """The suites read them as declared in the revision.

    A value that is secret in one of them is secret.
    """
    whole = {**here, **there}
    return {
        name: replace(each, secret=any(one[name].secret for one in (here, there) if name in one))
        for name, each in whole.items()
    }


class _FromHere(Relocation, frozen=True):
    """Unchanged paths; a program that is missing in the copy, such as an interpreter, comes from
    the working copy.
    """

    home: Path

    def path(self, path: str) -> str:
        """The path itself: the folder is the same."""
        return path

    def program(self, program: str) -> str:
        """The program in the copy, or in the working copy, or otherwise a name to look up."""
        if program and not (self.root / program).exists() and (self.home / program).exists():
            return str(self.home / program)
        return program


def _link_tools(top: Path, tree: Path) -> None:
    """Make installed tools in untracked folders usable in the copy."""
    names = {name for kind in KINDS for name in find_kind(kind).tool_folders}
    answer = ask_git(top, "ls-files", "--others", "--directory", "-z")
    for path in answer.output.split("\0"):
        inside = Path(path.rstrip("/"))
        if path.endswith("/") and inside.name in names:
            with contextlib.suppress(OSError):  # its parent is not there, or it is by now
                if not (tree / inside).exists():
                    (tree / inside).symlink_to(top / inside, target_is_directory=True)
