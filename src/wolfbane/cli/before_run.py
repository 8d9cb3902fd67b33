"""What a run needs before anything starts: all of it is checked, and nothing heavy is imported."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import click

from wolfbane.browsers.evidence_policy import FAILURES
from wolfbane.cli.quoting import quoted
from wolfbane.cli.selection_options import Selected
from wolfbane.environments import Environment, Mask
from wolfbane.inventory.documents import fetch_documents
from wolfbane.inventory.empty import nothing_chosen
from wolfbane.inventory.in_play import suites_in_play
from wolfbane.kinds.documents import Copy, Freshness
from wolfbane.results.newest import Known
from wolfbane.results.quarantine import Quarantine, read_quarantine
from wolfbane.selection import Choice

if TYPE_CHECKING:
    from wolfbane.cli.target_options import Point
    from wolfbane.results.record import Record
    from wolfbane.workspace.settings import Workspace


@dataclass(frozen=True)
class RunRequest:
    """How to run, as the command line says it. ``timeout`` is in seconds.

    ``told`` is what earlier runs of the same ``watch`` warned of.
    """

    arguments: Sequence[str] = ()
    jobs: int | None = None
    timeout: float | None = None
    stop_after: int | None = None
    seed: int | None = None
    shuffled: bool = False
    build: str = "changed"
    no_focus: bool = False
    dry_run: bool = False
    reports: Sequence[str] = ()
    quiet: bool = False
    verbose: bool = False
    documents: Freshness = Freshness.COMPARE
    evidence: str = FAILURES
    visible: bool = False
    log: frozenset[str] = frozenset()
    retries: int | None = None
    retry_at_once: bool = False
    flaky_fails: bool = False
    skip_quarantined: bool = False
    pointed: Sequence[str] = ()
    failed_first: bool = False
    mail_to: Sequence[str] = ()
    mail_news_only: bool = False
    told: set[str] | None = None


@dataclass(frozen=True)
class Ready:
    """A run that can start: where, against what, which tests, and where its reports go."""

    workspace: Workspace
    environments: Sequence[Environment]
    selected: Selected
    choice: Choice
    known: Known
    quarantine: Quarantine
    copies: Sequence[Copy]
    said: Sequence[str]
    write: Callable[[Record], None]


def _writer(reports: Sequence[str]) -> Callable[[Record], None]:
    """What writes the reports that are asked for, whose places are checked now."""
    if not reports:
        return lambda record: None
    from wolfbane.reports.written import read_targets, write_reports

    targets = read_targets(reports)
    return lambda record: write_reports(targets, record)


def make_ready(
    open_workspace: Callable[[], Workspace],
    select: Callable[[], Selected],
    point: Point,
    asked: RunRequest,
) -> Ready:
    """Read and check everything. Raises NothingChosen where no file can hold a chosen test."""
    write = _writer(asked.reports)
    workspace = open_workspace()
    if asked.mail_to:
        from wolfbane.reports.post import check_mail  # smtplib takes a while: only where it is used

        check_mail(workspace.settings.mail, asked.mail_to)
    environments = point(workspace)
    copies, said = fetch_documents(workspace, environments[0], asked.documents)
    selected = select()
    quarantine = read_quarantine(workspace)
    choice = replace(
        selected.choice,
        focus=selected.choice.focus and not asked.no_focus,
        quarantined=quarantine.expression() if asked.skip_quarantined else None,
    )
    known = selected.newest.known({each.label: each.name for each in environments})
    labels = [each.label for each in environments]
    if not suites_in_play(selected.inventory, choice, known.status, labels):
        raise nothing_chosen(selected.inventory, choice, known.status, to_run=True)
    return Ready(workspace, environments, selected, choice, known, quarantine, copies, said, write)


def print_line(selected: Selected, point: Point, arguments: Sequence[str], shell: str) -> None:
    """The whole run as one line for a shell; a secret in it is masked."""
    environments = point(selected.inventory.workspace)
    mask = Mask(secret for environment in environments for secret in environment.secrets)
    shown = [mask(argument) for argument in arguments]
    click.echo(quoted(["wolfbane", "run", *shown], shell))
    if shown != list(arguments):
        click.echo("wolfbane: a secret is masked in this line", err=True)
