"""Checks everything that a run needs, before anything starts and without slow imports.

This includes the options that a run passes to runtimes, programs or launchers.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from random import SystemRandom
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from wolfbane.app.selection import Selected
from wolfbane.basis.this_machine import available_cores
from wolfbane.environments import Environment
from wolfbane.errors import InputError, NothingChosen, Problem, did_you_mean
from wolfbane.inventory.candidate_suites import suites_in_play
from wolfbane.inventory.documents import fetch_documents
from wolfbane.kinds.documents import Copy
from wolfbane.kinds.freshness import Freshness
from wolfbane.kinds.protocols import TakesOptions
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.results.newest import Known
from wolfbane.results.quarantine import Quarantine, read_quarantine
from wolfbane.selection import Choice
from wolfbane.setup.run_request import RunRequest
from wolfbane.workspace.settings import Workspace

if TYPE_CHECKING:
    from wolfbane.workers.prewarm import HeadStart


_A_WEEK = 7 * 86_400.0
_MOST_PROJECTS = 10


class ReadyRun(msgspec.Struct, frozen=True):
    """A run that is ready to start: workspace, environments, tests and options.

    ``targets`` are the formats and paths of reports. ``in_play`` are the suites that may contain
    selected tests.
    """

    workspace: Workspace
    environments: Sequence[Environment]
    selected: Selected
    choice: Choice
    known: Known
    quarantine: Quarantine
    copies: Sequence[Copy]
    warnings: Sequence[str]
    targets: Sequence[tuple[str, Path]]
    request: RunRequest
    in_play: Sequence[Suite]
    head_start: HeadStart | None = None


def make_ready(
    workspace: Workspace,
    environments: Sequence[Environment],
    select: Callable[[Workspace], Selected],
    request: RunRequest,
) -> ReadyRun:
    """Read and check everything. Raises NothingChosen if no file can contain a selected test.

    ``select`` is called with the workspace after the documents with URLs were downloaded, because
    they can contain tests.
    """
    _check_screen(request)
    _check_versions(request, environments)
    targets = _report_targets(request.reports)
    _check_mail(workspace, request)
    copies, warnings = fetch_documents(workspace, environments[0], Freshness(request.documents))
    selected = select(workspace)
    _check_projects(workspace, selected)
    names_of = {each.label: each.name for each in environments}
    if request.passed_on or request.options_for:
        workspace, request = _passed_on(workspace, selected, request, names_of)
        selected = select(workspace)
    quarantine = read_quarantine(workspace)
    choice = replace(
        selected.choice,
        focus=selected.choice.focus and not request.no_focus,
        quarantined=quarantine.expression() if request.quarantine == "skip" else None,
    )
    known = selected.newest.known(names_of)
    in_play = suites_in_play(selected.inventory, choice, known.status, targets=list(names_of))
    if not in_play:
        raise _nothing_chosen(selected, choice, known)
    return ReadyRun(
        workspace=workspace,
        environments=environments,
        selected=selected,
        choice=choice,
        known=known,
        quarantine=quarantine,
        copies=copies,
        warnings=(*_checkout_warnings(workspace), *warnings),
        targets=targets,
        request=_settled(request, workspace.settings.workspace.jobs),
        in_play=in_play,
    )


def _settled(request: RunRequest, own_jobs: int | None) -> RunRequest:
    """The request with resolved values for the number of workers and the seed.

    ``own_jobs`` is the workspace's own number, if it has one.
    """
    seed, timeout = request.seed, request.timeout
    if request.live or (request.keep_open and timeout is None):
        timeout = _A_WEEK  # somebody looks at a browser, and other tests wait; or debugs a test
    if request.order == "random" and seed is None:
        seed = SystemRandom().randrange(1_000_000)
    jobs = request.jobs
    if request.live:
        jobs = 1
    elif not request.on:  # without a number, each machine of a cluster has its own
        jobs = jobs or own_jobs or available_cores()
    return dataclasses.replace(request, jobs=jobs, seed=seed, timeout=timeout)


def _checkout_warnings(workspace: Workspace) -> Sequence[str]:
    if workspace.source:
        return workspace.source.checkout.warnings
    return ()


def _passed_on(
    workspace: Workspace, selected: Selected, request: RunRequest, names_of: Mapping[str, str]
) -> tuple[Workspace, RunRequest]:
    """The workspace with the options of the command line for the test programs of its suites.

    ``names_of`` are the names of the environments, by label.
    """
    status = selected.newest.known(names_of).status
    suites = suites_in_play(selected.inventory, selected.choice, status, targets=list(names_of))
    names = suites_with_options(suites, request.passed_on, request.options_for)
    request = dataclasses.replace(request, options_for=tuple(names))
    return with_options(workspace, names, request.passed_on), request


def _nothing_chosen(selected: Selected, choice: Choice, known: Known) -> NothingChosen:
    from wolfbane.inventory.empty import nothing_chosen

    return nothing_chosen(selected.inventory, choice, known.status, to_run=True)


def _check_projects(workspace: Workspace, selected: Selected) -> None:
    """Raise InputError for a run of everything in a folder that only contains projects."""
    if not workspace.projects or selected.is_narrowed:
        return
    names, more = workspace.projects[:_MOST_PROJECTS], len(workspace.projects) - _MOST_PROJECTS
    message = ", ".join(names) + (f", and {more} more" if more > 0 else "")
    count = len(workspace.projects)
    raise InputError(
        Problem(
            f"this folder is not a project, but contains {count} projects: {message}",
            hint=f"run one of them: wolfbane run {names[0]}; or all: wolfbane run .",
        )
    )


def _check_screen(request: RunRequest) -> None:
    """Raise InputError for an option that works only with a screen or a terminal."""
    names = {"--keep-open": request.keep_open, "--pace": request.pace is not None}
    given = [name for name, is_set in names.items() if is_set]
    if not given:
        return
    from wolfbane.browsers.engines.discovery import has_screen

    for name in given:
        if not request.visible:
            raise InputError(Problem(f"{name} works only with --visible", hint="add --visible"))
        if not has_screen():
            raise InputError(
                Problem(
                    f"{name}: no screen is available", hint="start a display server, or set DISPLAY"
                )
            )


def _check_mail(workspace: Workspace, request: RunRequest) -> None:
    if request.mail_to:
        from wolfbane.reports.mail.smtp import (
            check_mail,  # smtplib takes a while: only where it is used
        )

        check_mail(workspace.settings.mail, request.mail_to)


def _check_versions(request: RunRequest, environments: Sequence[Environment]) -> None:
    if request.version_must_match and not any(each.version for each in environments):
        hint = "see docs/revisions.md"
        raise InputError(
            Problem("--version-must-match: no environment defines 'version'", hint=hint)
        )


def _report_targets(reports: Sequence[str]) -> Sequence[tuple[str, Path]]:
    if not reports:
        return ()
    from wolfbane.reports.report_files import read_targets

    return read_targets(reports)


def suites_with_options(
    chosen: Sequence[Suite], options: Sequence[str], names: Sequence[str]
) -> list[str]:
    """The suites that get options: the named suites; without names, all selected suites.

    Raises InputError if the suites are ambiguous, or if a name is not a selected suite.
    """
    known = [suite.name for suite in chosen]
    if not options:
        if names:
            raise InputError(
                Problem("--options-for needs options to pass", hint="add them after --")
            )
        return []
    if unknown := [name for name in names if name not in known]:
        problems = (f"--options-for: suite '{name}' is not in this run" for name in unknown)
        raise InputError(*(Problem(w, hint=did_you_mean(w.split("'")[1], known)) for w in problems))
    kinds = dict.fromkeys(suite.kind for suite in chosen)
    if len(kinds) > 1 and not names:
        message = (
            f"cannot decide which suites get the passed options: "
            f"the selected suites have {len(kinds)} kinds"
        )
        hint = f"choose the suites: --options-for {known[0]}"
        raise InputError(Problem(f"{message} ({', '.join(kinds)})", hint=hint))
    return list(names) or known


def _with_options(workspace: Workspace, suite: Suite, options: Sequence[str]) -> Suite:
    kind = find_kind(suite.kind)
    if not isinstance(kind, TakesOptions):
        raise ValueError(f"suites of kind {suite.kind} do not accept options")
    changed: Suite = kind.with_options(workspace.root, suite, options)
    return changed


def with_options(workspace: Workspace, names: Sequence[str], options: Sequence[str]) -> Workspace:
    """The workspace in which the suites with these names have additional options.

    Raises InputError for suites that accept no options.
    """
    suites, problems = [], []
    for suite in workspace.suites:
        if suite.name in names:
            more = options
        else:
            more = ()
        try:
            suites.append(_with_options(workspace, suite, more) if more else suite)
        except ValueError as error:
            message = f"cannot pass {' '.join(options)} to suite '{suite.name}': {error}"
            problems.append(Problem(message))
    if problems:
        raise InputError(*problems)
    return replace(workspace, settings=replace(workspace.settings, suite=suites))
