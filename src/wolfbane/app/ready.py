"""What a run needs before anything starts: all of it is checked, and nothing heavy is imported."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from wolfbane.app.selection import Selected
from wolfbane.environments import Environment
from wolfbane.execution.run_request import RunRequest
from wolfbane.inventory.documents import fetch_documents
from wolfbane.inventory.empty import nothing_chosen
from wolfbane.inventory.in_play import suites_in_play
from wolfbane.kinds.documents import Copy
from wolfbane.kinds.freshness import Freshness
from wolfbane.results.newest import Known
from wolfbane.results.quarantine import Quarantine, read_quarantine
from wolfbane.selection import Choice
from wolfbane.workspace.settings import Workspace


class ReadyRun(msgspec.Struct, frozen=True):
    """A run that can start: where, in which environments, which tests, and how.

    ``targets`` are the formats and paths of reports.
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


def make_ready(
    workspace: Workspace,
    environments: Sequence[Environment],
    select: Callable[[], Selected],
    request: RunRequest,
) -> ReadyRun:
    """Read and check everything. Raises NothingChosen where no file can hold a chosen test.

    ``select`` is called once the documents that suites name by URL have been fetched: they may
    hold tests.
    """
    targets = _report_targets(request.reports)
    if request.mail_to:
        from wolfbane.reports.post import check_mail  # smtplib takes a while: only where it is used

        check_mail(workspace.settings.mail, request.mail_to)
    copies, warnings = fetch_documents(workspace, environments[0], Freshness(request.documents))
    selected = select()
    quarantine = read_quarantine(workspace)
    choice = replace(
        selected.choice,
        focus=selected.choice.focus and not request.no_focus,
        quarantined=quarantine.expression() if request.quarantine == "skip" else None,
    )
    known = selected.newest.known({each.label: each.name for each in environments})
    labels = [each.label for each in environments]
    if not suites_in_play(selected.inventory, choice, known.status, labels):
        raise nothing_chosen(selected.inventory, choice, known.status, to_run=True)
    settled = request.settled(workspace.settings.workspace.jobs)
    return ReadyRun(
        workspace, environments, selected, choice, known, quarantine, copies, warnings, targets,
        settled,
    )  # fmt: skip


def _report_targets(reports: Sequence[str]) -> Sequence[tuple[str, Path]]:
    if not reports:
        return ()
    from wolfbane.reports.written import read_targets

    return read_targets(reports)
