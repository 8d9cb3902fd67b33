"""Carry out ``wolfbane run`` once its options are read."""

from __future__ import annotations

import contextlib
import random
import shlex
import shutil
from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from typing import TYPE_CHECKING

import click

from wolfbane.cli.streams import leave_standard_output
from wolfbane.cores import available_cores
from wolfbane.errors import InputError, WolfbaneError
from wolfbane.execution.options import Options
from wolfbane.execution.recorded import run_recorded
from wolfbane.execution.session import Session
from wolfbane.inventory.documents import keep_with_run
from wolfbane.kinds.registry import find_kind
from wolfbane.model import at
from wolfbane.reports.console import ConsoleReport
from wolfbane.reports.guarded import GuardedConsole
from wolfbane.reports.plan import print_plan
from wolfbane.reports.style import make_console
from wolfbane.results.history_url import history_url
from wolfbane.results.retention import tidy
from wolfbane.results.runs import new_run
from wolfbane.workspace.settings import Keep

if TYPE_CHECKING:
    from wolfbane.cli.before_run import Ready, RunRequest
    from wolfbane.environments import Environment
    from wolfbane.model import Test
    from wolfbane.results.record import Record
    from wolfbane.workspace.settings import Workspace


LATELY = 10
"""Runs that are looked back on for quarantined tests."""


def carry_out(ready: Ready, asked: RunRequest) -> int:
    """Run what is ready and report; returns the exit code."""
    workspace, environments, selected = ready.workspace, ready.environments, ready.selected
    folder = new_run(workspace.results)
    keep_with_run(ready.copies, workspace.root, folder)
    options = _options(asked, workspace.settings.workspace.jobs)
    documents = {copy.url: copy.words for copy in ready.copies}
    session = Session(
        selected.inventory, ready.choice, options, ready.known, environments, folder.name,
        documents, ready.said, ready.quarantine,
    )  # fmt: skip
    session.look_back(lambda tests: _lately(workspace, tests, environments[0]))
    console = make_console()
    report = GuardedConsole(
        ConsoleReport(
            console, quiet=asked.quiet, verbose=asked.verbose,
            results=workspace.settings.workspace.results, told=asked.told,
        ),
        _without_console,
    )  # fmt: skip
    try:
        if asked.dry_run:
            whole = [
                suite.name for suite in workspace.suites
                if find_kind(suite.kind).runs_whole_files(workspace.root, suite)
            ]  # fmt: skip
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
    ready.write(record)
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


def _mail(workspace: Workspace, record: Record, asked: RunRequest) -> None:
    """Mail the result of a run. A mail that cannot be sent is reported, no more."""
    from wolfbane.reports.mail import compose
    from wolfbane.reports.post import read_recipients, send
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
        recipients = read_recipients(asked.mail_to)
        send(compose(record, since, link, mail.sender, recipients), mail, workspace.root)
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
    """Add the run to the team's history; print why if that fails."""
    if history_url(workspace):
        from wolfbane.results.opening import open_history

        try:
            _, problems = open_history(workspace)
        except InputError as error:
            problems = [f"this run is not in the team's history: {error}"]
        for problem in problems:
            click.echo(f"wolfbane: {problem}", err=True)


def _options(asked: RunRequest, jobs: int | None) -> Options:
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
