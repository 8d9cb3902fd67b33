"""Carry out ``wolfbane run`` once its options are read."""

from __future__ import annotations

import contextlib
import random
import shlex
import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING

import click

from wolfbane.browsers.words import FAILURES
from wolfbane.cli.quoting import quoted
from wolfbane.cli.selecting import Selected
from wolfbane.cli.streams import leave_standard_output
from wolfbane.cores import available_cores
from wolfbane.environments import Mask
from wolfbane.errors import InputError, WolfbaneError
from wolfbane.execution.options import Options
from wolfbane.execution.recorded import run_recorded
from wolfbane.execution.run import Session
from wolfbane.inventory.documents import GLANCING, fetch_documents, keep_with_run
from wolfbane.model import at
from wolfbane.reports.console import ConsoleReport
from wolfbane.reports.guarded import GuardedConsole
from wolfbane.reports.plan import print_plan
from wolfbane.reports.style import make_console
from wolfbane.results.history_url import history_url
from wolfbane.results.quarantine import read_quarantine
from wolfbane.results.runs import new_run
from wolfbane.results.tidying import tidy
from wolfbane.workspace.settings import Keep

if TYPE_CHECKING:
    from wolfbane.cli.pointing import Point
    from wolfbane.environments import Environment
    from wolfbane.model import Test
    from wolfbane.results.record import Record
    from wolfbane.workspace.settings import Workspace


LATELY = 10
"""Runs that are looked back on for quarantined tests."""


@dataclass(frozen=True)
class Asked:
    """How to run, as the command line says it. ``timeout`` is in seconds."""

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
    documents: str = GLANCING
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


def _writer(reports: Sequence[str]) -> Callable[[Record], None]:
    """What writes the reports that are asked for, whose places are checked now."""
    if not reports:
        return lambda record: None
    from wolfbane.reports.written import read_targets, write_reports

    targets = read_targets(reports)
    return lambda record: write_reports(targets, record)


def carry_out(
    open_workspace: Callable[[], Workspace],
    select: Callable[[], Selected],
    point: Point,
    asked: Asked,
) -> int:
    """Choose, run and report; returns the exit code."""
    write = _writer(asked.reports)
    workspace = open_workspace()
    if asked.mail_to:
        from wolfbane.reports.post import check_mail  # smtplib takes a while: only where it is used

        check_mail(workspace.settings.mail, asked.mail_to)
    environments = point(workspace)
    copies, said = fetch_documents(workspace, environments[0], asked.documents)
    selected = select()
    folder = new_run(workspace.results)
    keep_with_run(copies, workspace.root, folder)
    quarantine = read_quarantine(workspace)
    choice = replace(
        selected.choice,
        focus=selected.choice.focus and not asked.no_focus,
        quarantined=quarantine.expression() if asked.skip_quarantined else None,
    )
    known = selected.newest.known({each.label: each.name for each in environments})
    options = _options(asked, workspace.settings.workspace.jobs)
    documents = {copy.url: copy.words for copy in copies}
    session = Session(
        selected.inventory, choice, options, known, environments, folder.name, documents, said,
        quarantine,
    )  # fmt: skip
    session.look_back(lambda tests: _lately(workspace, tests, environments[0]))
    console = make_console()
    report = GuardedConsole(
        ConsoleReport(
            console, quiet=asked.quiet, verbose=asked.verbose,
            results=workspace.settings.workspace.results,
        ),
        _without_console,
    )  # fmt: skip
    try:
        if asked.dry_run:
            from wolfbane.engines.bridge import whole_files

            whole = whole_files(workspace.root, workspace.suites)
            plan = session.plan(folder)
            shutil.rmtree(folder)
            print_plan(console, plan, session.broken, whole)
            return 1 if session.broken else 0
        session.listen(report)
        code, record, trouble = run_recorded(session, folder, selected.newest)
    except WolfbaneError:
        report.close()
        shutil.rmtree(folder)
        raise
    finally:
        report.close()
    if trouble:
        click.echo(f"wolfbane: {trouble}", err=True)
    write(record)
    _to_the_team(workspace)
    if asked.mail_to:
        _mail(workspace, record, asked)
    if workspace.settings.keep != Keep():
        for problem in tidy(workspace, datetime.now()):
            click.echo(f"wolfbane: {problem}", err=True)
    return code


def _without_console(words: str) -> None:
    """Go on with a run whose console cannot be written; its record and reports are whole."""
    leave_standard_output()
    with contextlib.suppress(OSError):  # the error stream may be no better
        click.echo(f"wolfbane: {words}", err=True)


def _mail(workspace: Workspace, record: Record, asked: Asked) -> None:
    """Send what a run came to; a mail that cannot be sent is said, and no more."""
    from wolfbane.reports.mail import compose
    from wolfbane.reports.post import send
    from wolfbane.results.since import is_news, since_the_one_before

    mail, finished = workspace.settings.mail, record.finished
    assert mail is not None and record.started is not None and finished is not None
    run = record.started.run
    try:
        held = record.started.quarantined
        apart = frozenset(each.variant for each in record.results if each.address in held)
        since = since_the_one_before(workspace, run, apart)
        if asked.mail_news_only and not is_news(since, failed=finished.exit_code != 0):
            return
        link = mail.report_url.replace("{run}", run)
        send(compose(record, since, link, mail.sender, tuple(asked.mail_to)), mail, workspace.root)
    except InputError as error:
        click.echo(f"wolfbane: {error}", err=True)


def _lately(
    workspace: Workspace, tests: Sequence[Test], environment: Environment
) -> dict[str, str]:
    """How often tests passed in their newest runs; nothing where the history cannot be read.

    ``environment`` is that of tests whose addresses have none.
    """
    from wolfbane.results.history import histories
    from wolfbane.results.opening import open_history

    try:
        store, _ = open_history(workspace)
        places = [replace(test, target="").address for test in tests]
        variants = [t.address if t.target else at(t.address, environment.name) for t in tests]
        found = histories(store, variants, store.runs_of(places, LATELY))
    except InputError:
        return {}
    pairs = zip(tests, found, strict=True)
    return {t.address: f"{each.passed} of {len(each.counted)}" for t, each in pairs if each.counted}


def _to_the_team(workspace: Workspace) -> None:
    """Add the run to the team's history; one that cannot be reached is said, and no more."""
    if history_url(workspace):
        from wolfbane.results.opening import open_history

        try:
            open_history(workspace)
        except InputError as error:
            click.echo(f"wolfbane: this run is not in the team's history: {error}", err=True)


def _options(asked: Asked, jobs: int | None) -> Options:
    seed = asked.seed
    if asked.shuffled and seed is None:
        seed = random.SystemRandom().randrange(1_000_000)
    return Options(
        jobs=asked.jobs or jobs or available_cores(),
        timeout=asked.timeout,
        stop_after=asked.stop_after,
        seed=seed,
        build=asked.build,
        no_focus=asked.no_focus,
        evidence=asked.evidence,
        visible=asked.visible,
        log=asked.log,
        retries=asked.retries,
        retry_at_once=asked.retry_at_once,
        flaky_fails=asked.flaky_fails,
        command=shlex.join(["wolfbane", "run", *asked.arguments]),
        pointed=tuple(asked.pointed),
        failed_first=asked.failed_first,
    )


def print_line(selected: Selected, point: Point, arguments: Sequence[str], shell: str) -> None:
    """The whole run as one line for a shell; a secret in it is masked."""
    environments = point(selected.inventory.workspace)
    mask = Mask(secret for environment in environments for secret in environment.secrets)
    shown = [mask(argument) for argument in arguments]
    click.echo(quoted(["wolfbane", "run", *shown], shell))
    if shown != list(arguments):
        click.echo("wolfbane: a secret is masked in this line", err=True)
